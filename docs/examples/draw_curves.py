"""Draws what `curve` printed for several recipes: recall against queries in the time of an ideal scan.

python3 draw_curves.py OUT.png < LINES      the lines of several runs, one after the other (needs matplotlib)"""
import json
import sys
import matplotlib

matplotlib.use("Agg")
import matplotlib.pyplot as plot

runs, limit = [], None
for line in map(json.loads, (text for text in sys.stdin if text.startswith("{"))):
    if line["line"] == "limit":
        limit = line
    elif line["line"] == "build":
        ideal = line["rows"] * line["dimensions"] * 4 / limit["stream_gb_per_s"] / 1e9
        runs.append((line["recipe"], ideal, []))
    elif line["line"] == "point":
        runs[-1][2].append((line["recall_mean"], line["queries_per_s"] * runs[-1][1]))

figure, axes = plot.subplots(figsize=(12.8, 8), layout="constrained")
styles = ["-", "--", ":", "-."]
for i, (recipe, _, points) in enumerate(runs):
    # Recall is drawn by what is missing of it, so that 0.95, 0.99 and 0.999 stand apart.
    points = [(max(1 - recall, 1e-4), pace) for recall, pace in sorted(points)]
    axes.plot(*zip(*points), styles[i // 7 % 4], marker="o", markersize=4, label=recipe)
axes.set(xscale="log", yscale="log", xlabel="mean recall@10", ylabel="queries in the time of one ideal scan")
axes.invert_xaxis()
ticks = [0.5, 0.3, 0.2, 0.1, 0.05, 0.02, 0.01, 0.005, 0.002, 0.001]
axes.set_xticks(ticks, [f"{1 - t:.3g}" for t in ticks])
axes.minorticks_off()
axes.set_yticks([1, 2, 5, 10, 20, 50, 100, 200], ["1", "2", "5", "10", "20", "50", "100", "200"])
axes.grid(alpha=0.3)
figure.legend(fontsize=9, loc="outside lower center", ncols=3)
figure.savefig(sys.argv[1], dpi=100)

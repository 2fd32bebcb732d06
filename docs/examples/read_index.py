"""Answers a query from an index file alone: python3 read_index.py FILE K SETTING < query.json

SETTING is the beam of a graph, or how many cells to visit. Routes scan, graph and cells; stores f32, f16 and int8. Prints
the number of each hit's record and its rank: -dot under cosine and dot, the squared distance under euclidean."""
import json, sys
import numpy as np
from safetensors import safe_open
path, k, setting = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
with safe_open(path, "np") as file:
    about, t = file.metadata(), {name: file.get_tensor(name) for name in file.keys()}
what = json.loads(about["description"])
euclidean = what["metric"] == "euclidean"

def rows(name):
    values = t[name].astype(np.float32)
    return values * t[name + ".scale"][:, None] if name + ".scale" in t else values

def ranks(vectors, query):
    return ((vectors - query) ** 2).sum(axis=1) if euclidean else -(vectors @ query)

def nearest(numbers, vectors, query, most):
    return [n for _, n in sorted(zip(ranks(vectors[numbers], query), numbers))[:most]]

asked = np.array(json.load(sys.stdin), np.float32)
if what["metric"] == "cosine":
    asked = asked / np.linalg.norm(asked)
stored, query = rows("stored"), asked
if euclidean and "mean" in t:  # under cosine and dot a mean changes no order
    query = query - t["mean"]
query = t["matrix"] @ query if "matrix" in t else query

def walk(entries, beam, links):
    best, seen, opened = sorted(zip(ranks(stored[entries], query), entries)), set(entries), set()
    while (node := next((n for _, n in best if n not in opened), None)) is not None:
        opened.add(node)
        fresh = [n for n in links(node).tolist() if n != 0xFFFFFFFF and n not in seen]
        seen.update(fresh)
        best = sorted(best + list(zip(ranks(stored[fresh], query), fresh)))[:beam]
    return [n for _, n in best]
wanted = 3 * k if "finer" in t else k  # as the setting rescore usually is
if "ground" in t:
    at = [int(about["entry"])]
    upper_start = np.cumsum(t["level"], dtype=int) - t["level"]
    for layer in range(int(t["level"][at[0]]), 0, -1):
        at = walk(at, 1, lambda node: t["upper"][upper_start[node] + layer - 1])
    ground = t["ground"].astype(int) @ 256 ** np.arange(t["ground"].shape[1])
    lists = t["heads"][:, 1].astype(int) if "heads" in t else t["ground_start"]
    start, n = (lists & 0xFFFFFFFF, lists >> 32) if "heads" in t else (lists[:-1], np.diff(lists))
    found = walk(at, max(setting, wanted), lambda node: ground[start[node]:start[node] + n[node]])[:wanted]
elif "starts" in t:
    starts = t["starts"]
    filled = [c for c in range(len(starts) - 1) if starts[c] < starts[c + 1]]
    spread = t.get("spread", np.zeros(len(starts) - 1))
    if "centers.left" in t:  # crossed: every half of the left with every half of the right
        left, right = t["centers.left"], t["centers.right"]
        centers = np.hstack([np.repeat(left, len(right), axis=0), np.tile(right, (len(left), 1))])
    else:
        centers = rows("centers") + t["centers.mean"]
    nearer = {"cosine": 0.4, "dot": 0.2, "euclidean": 0.0}[what["metric"]] * np.linalg.norm(query)
    cells = [c for _, c in sorted(zip((ranks(centers, query) - nearer * spread)[filled], filled))[:setting]]
    found = nearest([n for c in cells for n in range(starts[c], starts[c + 1])], stored, query, wanted)
else:
    found = nearest(list(range(len(stored))), stored, query, wanted)
vectors, query = (rows("finer"), asked) if "finer" in t else (stored, query)
for node in nearest(found, vectors, query, k):
    print(t["numbers"][node], float(ranks(vectors[[node]], query)[0]))

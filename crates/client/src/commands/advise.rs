//! `zesty advise`.

use crate::cli::{AdviseArgs, AdviseCommand};
use crate::runner::{Done, Failure, Runner, newest};
use crate::show::{bytes, count, micros, seconds, table, when};
use crate::{exit, report};
use zesty_client::wire::{Advice, AdviceRequest, Aim, Candidate, Trial};

impl Runner {
    async fn find_advice(&self, collection: &str, id: Option<i64>) -> Result<Advice, Failure> {
        if let Some(id) = id {
            return Ok(self.client.show_advice(collection, id).await?);
        }
        newest(self.client.advice(collection).await?, || {
            format!("{collection} has no advice; `zesty advise run {collection}` tries recipes")
        })
    }

    async fn run_advice(&self, args: AdviseArgs) -> Done {
        let request = AdviceRequest {
            column: args.column,
            recall: args.recall,
            aim: if args.p5 { Aim::P5 } else { Aim::Mean },
            k: args.k,
            memory_mb: args.memory,
            query_set: args.queries,
            recipes: args.recipe,
            finalists: args.finalists,
            drop_all: args.drop_all,
            serve: args.serve,
        };
        let job = self.client.advise(&args.collection, &request).await?;
        let job = self.watch(job.id).await?;
        let id = job.result.as_ref().and_then(|r| r["advice"].as_i64());
        let advice = self.find_advice(&args.collection, id).await?;
        self.show(&advice, shown);
        Ok(if advice.result.winner.is_some() { 0 } else { exit::NOT_REACHED })
    }

    pub async fn advise(&self, command: AdviseCommand) -> Done {
        match command {
            AdviseCommand::Run(args) => self.run_advice(args).await,
            AdviseCommand::List { collection } => {
                let all = self.client.advice(&collection).await?;
                let empty = format!("No advice yet; `zesty advise run {collection}` tries recipes.");
                self.show_list(&all, &empty, listed)
            }
            AdviseCommand::Show { collection, advice } => {
                self.show(&self.find_advice(&collection, advice).await?, shown);
                Ok(0)
            }
            AdviseCommand::Save { collection, file, advice } => {
                let id = self.find_advice(&collection, advice).await?.id;
                self.save_report(&collection, ("advice", id), &file).await
            }
            AdviseCommand::Delete { collection, advice } => {
                self.client.delete_advice(&collection, advice).await?;
                self.said(&format!("advice {advice} of {collection} is deleted"))
            }
        }
    }
}

fn asked(a: &Advice) -> String {
    let of = match a.spec.aim {
        Aim::Mean => "mean",
        Aim::P5 => "5th percentile",
    };
    let memory = a.spec.memory_mb.map_or_else(String::new, |mb| format!(", within {mb} MB"));
    format!("{of} of recall@{} >= {}{memory}", a.spec.k, a.spec.recall)
}

fn listed(all: &[Advice]) -> String {
    let mut t = table(&[">advice", "column", "asked", "winner", ">p50", ">memory", "when"]);
    for a in all {
        let won = a.result.candidates.iter().find(|c| Some(&c.recipe) == a.result.winner.as_ref());
        let trial = won.and_then(|c| c.on_all.as_ref());
        t.add_row([
            a.id.to_string(),
            a.column.clone(),
            asked(a),
            a.result.winner.clone().unwrap_or_else(|| "none".into()) + if a.stale { " (stale)" } else { "" },
            trial.map_or_else(String::new, |t| micros(t.figures.p50_us)),
            trial.map_or_else(String::new, |t| bytes(t.memory_bytes)),
            when(&a.created_at),
        ]);
    }
    t.to_string()
}

fn shown(a: &Advice) -> String {
    let r = &a.result;
    let mut out = format!(
        "advice {} for {}: {}, on {} queries of \"{}\"\n{}",
        a.id,
        a.column,
        asked(a),
        count(r.n_queries),
        r.query_set,
        r.why
    );
    let mut t = table(&[
        "recipe", ">records", "settings", ">recall", ">p5", ">p50", ">p99", ">memory", ">build", "verdict",
    ]);
    let row = |c: &Candidate, trial: Option<&Trial>, verdict: String| -> Vec<String> {
        let cell = |of: &dyn Fn(&Trial) -> String| trial.map_or_else(String::new, of);
        vec![
            c.recipe.clone(),
            cell(&|t| count(t.n_rows)),
            cell(&|t| t.settings.to_string()),
            cell(&|t| format!("{:.4}", t.figures.recall_mean)),
            cell(&|t| format!("{:.2}", t.figures.recall_p5)),
            cell(&|t| micros(t.figures.p50_us)),
            cell(&|t| micros(t.figures.p99_us)),
            trial.map_or_else(|| format!("~{}", bytes(c.expected_memory_bytes)), |t| bytes(t.memory_bytes)),
            cell(&|t| seconds(t.build_seconds)),
            verdict,
        ]
    };
    for c in &r.candidates {
        t.add_row(row(c, c.on_all.as_ref().or(c.on_sample.as_ref()), c.verdict.clone()));
    }
    out += &format!("\n{t}");
    let kept: Vec<String> =
        r.candidates.iter().filter_map(|c| Some(format!("{} is {}", c.recipe, c.index.as_ref()?))).collect();
    if !kept.is_empty() {
        out += &format!("\nindexes: {}", kept.join("; "));
    }
    if r.served {
        out += "\nthe winner with its settings is the serving choice now";
    }
    out += &report::notices(&r.notices);
    if a.stale {
        out += report::STALE;
    }
    out
}

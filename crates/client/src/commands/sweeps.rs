//! `zesty sweep`.

use crate::cli::SweepCommand;
use crate::runner::{Done, Failure, Runner};
use crate::{exit, show};
use zesty_client::wire::SweepRequest;

impl Runner {
    pub async fn sweep(&self, command: SweepCommand) -> Done {
        let c = &self.client;
        let find = async |collection: &str, id: Option<i64>| {
            let all = c.sweeps(collection).await?;
            let found = all.into_iter().find(|s| id.is_none_or(|id| s.id == id));
            found.ok_or_else(|| Failure {
                text: format!("{collection} has no such sweep; `zesty sweep list {collection}` shows them"),
                code: exit::NOTHING_FOUND,
            })
        };
        match command {
            SweepCommand::Run { collection, index, queries, k, beams, visits, rescore, seed } => {
                let request = SweepRequest {
                    index,
                    queries: queries.unwrap_or(500),
                    k: k.unwrap_or(10),
                    beams,
                    visits,
                    rescore,
                    seed: seed.unwrap_or(1),
                };
                let job = c.run_sweep(&collection, &request).await?;
                let job = self.watch(job.id).await?;
                let id = job.result.as_ref().and_then(|r| r["sweep"].as_i64());
                self.show(&find(&collection, id).await?, show::sweep);
                Ok(0)
            }
            SweepCommand::List { collection } => {
                let all = c.sweeps(&collection).await?;
                let empty = format!("No sweeps yet; `zesty sweep run {collection} INDEX` measures an index.");
                self.show_list(&all, &empty, |all| {
                    let mut t =
                        show::table(&[">sweep", "index", "recipe", ">queries", ">best recall", "when"]);
                    for s in all {
                        let best = s.result.points.iter().map(|p| p.recall_mean).fold(0.0, f64::max);
                        t.add_row([
                            s.id.to_string(),
                            s.index.clone(),
                            s.recipe.clone(),
                            show::count(s.result.n_queries),
                            format!("{best:.4}"),
                            show::when(&s.created_at),
                        ]);
                    }
                    t.to_string()
                })
            }
            SweepCommand::Show { collection, sweep } => {
                self.show(&find(&collection, sweep).await?, show::sweep);
                Ok(0)
            }
        }
    }
}

//! `zesty sweep`.

use crate::cli::{SweepArgs, SweepCommand};
use crate::report;
use crate::runner::{Done, Failure, Runner, newest};
use zesty_client::wire::{Sweep, SweepRequest};

fn request(args: SweepArgs) -> (String, SweepRequest) {
    let request = SweepRequest {
        indexes: args.indexes,
        recipes: args.recipe,
        keep: args.keep,
        query_sets: args.queries,
        k: args.k,
        beams: args.beams,
        visits: args.visits,
        rescores: args.rescores,
        clients: args.clients,
        rounds: args.rounds,
        seed: args.seed,
    };
    (args.collection, request)
}

impl Runner {
    async fn find_sweep(&self, collection: &str, id: Option<i64>) -> Result<Sweep, Failure> {
        if let Some(id) = id {
            return Ok(self.client.show_sweep(collection, id).await?);
        }
        newest(self.client.sweeps(collection).await?, || {
            format!("{collection} has no sweep; `zesty sweep run {collection} INDEX` measures one")
        })
    }

    pub async fn sweep(&self, command: SweepCommand) -> Done {
        let c = &self.client;
        match command {
            SweepCommand::Run(args) => {
                let (collection, request) = request(*args);
                let job = c.run_sweep(&collection, &request).await?;
                let job = self.watch(job.id).await?;
                let id = job.result.as_ref().and_then(|r| r["sweep"].as_i64());
                self.show(&self.find_sweep(&collection, id).await?, report::sweep);
                Ok(0)
            }
            SweepCommand::List { collection } => {
                let all = c.sweeps(&collection).await?;
                let empty = format!("No sweeps yet; `zesty sweep run {collection} INDEX` measures an index.");
                self.show_list(&all, &empty, |all| report::sweeps(all).to_string())
            }
            SweepCommand::Show { collection, sweep } => {
                self.show(&self.find_sweep(&collection, sweep).await?, report::sweep);
                Ok(0)
            }
            SweepCommand::Save { collection, file, sweep } => {
                let sweep = self.find_sweep(&collection, sweep).await?;
                self.save_report(&collection, ("sweep", sweep.id), &file).await
            }
            SweepCommand::Delete { collection, sweep } => {
                c.delete_sweep(&collection, sweep).await?;
                self.said(&format!("sweep {sweep} of {collection} is deleted"))
            }
        }
    }
}

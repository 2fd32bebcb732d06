//! `zesty compare`.

use crate::cli::{CompareArgs, CompareCommand};
use crate::runner::{Done, Failure, Runner, newest};
use crate::side_by_side;
use zesty_client::wire::{Comparison, ComparisonRequest};

impl Runner {
    async fn find_comparison(&self, collection: &str, id: Option<i64>) -> Result<Comparison, Failure> {
        if let Some(id) = id {
            return Ok(self.client.show_comparison(collection, id).await?);
        }
        newest(self.client.comparisons(collection).await?, || {
            format!("{collection} has no comparison; `zesty compare run {collection} LEFT RIGHT` makes one")
        })
    }

    async fn run_comparison(&self, args: CompareArgs) -> Done {
        let request = ComparisonRequest {
            left: args.left,
            right: args.right,
            query_set: args.queries,
            k: args.k,
            rounds: args.rounds,
            seed: args.seed,
        };
        let job = self.client.run_comparison(&args.collection, &request).await?;
        let job = self.watch(job.id).await?;
        let id = job.result.as_ref().and_then(|r| r["comparison"].as_i64());
        self.show(&self.find_comparison(&args.collection, id).await?, side_by_side::comparison);
        Ok(0)
    }

    pub async fn compare(&self, command: CompareCommand) -> Done {
        let c = &self.client;
        match command {
            CompareCommand::Run(args) => self.run_comparison(args).await,
            CompareCommand::List { collection } => {
                let all = c.comparisons(&collection).await?;
                let empty =
                    format!("No comparisons yet; `zesty compare run {collection} LEFT RIGHT` makes one.");
                self.show_list(&all, &empty, |all| side_by_side::comparisons(all).to_string())
            }
            CompareCommand::Show { collection, comparison } => {
                let found = self.find_comparison(&collection, comparison).await?;
                self.show(&found, side_by_side::comparison);
                Ok(0)
            }
            CompareCommand::Hits { collection, comparison, position, from, limit, fields } => {
                let page = match position {
                    Some(position) => c.compared_query(&collection, comparison, position).await?,
                    None => c.compared_queries(&collection, comparison, from, limit).await?,
                };
                self.show(&page, |page| side_by_side::hits(page, &fields));
                Ok(0)
            }
            CompareCommand::Judge { collection, comparison, position, verdict } => {
                let all = c.judge(&collection, comparison, position, verdict.verdict()).await?;
                self.show(&all, side_by_side::verdicts);
                Ok(0)
            }
            CompareCommand::Save { collection, file, comparison } => {
                let id = self.find_comparison(&collection, comparison).await?.id;
                self.save_report(&collection, ("comparison", id), &file).await
            }
            CompareCommand::Delete { collection, comparison } => {
                c.delete_comparison(&collection, comparison).await?;
                self.said(&format!("comparison {comparison} of {collection} is deleted"))
            }
        }
    }
}

//! `zesty target`.

use crate::cli::{TargetArgs, TargetCommand};
use crate::runner::{Done, Failure, Runner, newest};
use crate::{exit, report};
use zesty_client::wire::{Aim, Target, TargetRequest};

impl Runner {
    async fn find_target(&self, collection: &str, id: Option<i64>) -> Result<Target, Failure> {
        if let Some(id) = id {
            return Ok(self.client.show_target(collection, id).await?);
        }
        newest(self.client.targets(collection).await?, || {
            format!(
                "{collection} has no target; `zesty target solve {collection} INDEX --recall 0.95` finds settings"
            )
        })
    }

    async fn solve(&self, args: TargetArgs) -> Done {
        let request = TargetRequest {
            index: args.index,
            recall: args.recall,
            aim: if args.p5 { Aim::P5 } else { Aim::Mean },
            k: args.k,
            query_sets: args.queries,
            rescore: args.rescore,
            serve: args.serve,
        };
        let job = self.client.solve_target(&args.collection, &request).await?;
        let job = self.watch(job.id).await?;
        let id = job.result.as_ref().and_then(|r| r["target"].as_i64());
        let target = self.find_target(&args.collection, id).await?;
        self.show(&target, report::target);
        Ok(if target.result.reached { 0 } else { exit::NOT_REACHED })
    }

    pub async fn target(&self, command: TargetCommand) -> Done {
        match command {
            TargetCommand::Solve(args) => self.solve(args).await,
            TargetCommand::List { collection } => {
                let all = self.client.targets(&collection).await?;
                let empty = format!(
                    "No targets yet; `zesty target solve {collection} INDEX --recall 0.95` finds settings."
                );
                self.show_list(&all, &empty, |all| report::targets(all).to_string())
            }
            TargetCommand::Show { collection, target } => {
                self.show(&self.find_target(&collection, target).await?, report::target);
                Ok(0)
            }
            TargetCommand::Save { collection, file, target } => {
                let id = self.find_target(&collection, target).await?.id;
                self.save_report(&collection, ("target", id), &file).await
            }
            TargetCommand::Delete { collection, target } => {
                self.client.delete_target(&collection, target).await?;
                self.said(&format!("target {target} of {collection} is deleted"))
            }
        }
    }
}

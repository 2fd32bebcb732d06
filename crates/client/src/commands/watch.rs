//! `zesty watch`.

use crate::cli::WatchCommand;
use crate::report;
use crate::runner::{Done, Runner};
use zesty_client::wire::{Capture, RecallCheck};

impl Runner {
    pub async fn watch_searches(&self, command: WatchCommand) -> Done {
        match command {
            WatchCommand::Set(a) => {
                let mut watch = self.client.watch_state(&a.collection, 24).await?.watch;
                if let Some(share) = a.capture {
                    let capture = Capture { share, keep: a.keep, days: a.days, texts: a.texts };
                    watch.capture = (share != 0.0).then_some(capture);
                }
                if let Some(budget) = a.recall {
                    watch.recall = (budget != 0.0).then_some(RecallCheck { budget, floor: a.floor });
                }
                self.show(&self.client.set_watch(&a.collection, &watch).await?, report::watch);
                Ok(0)
            }
            WatchCommand::Show { collection, hours } => {
                self.show(&self.client.watch_state(&collection, hours).await?, report::watch);
                Ok(0)
            }
            WatchCommand::Forget { collection } => {
                let n = self.client.forget_captured(&collection).await?;
                self.said(&format!("{n} captured searches of {collection} are forgotten"))
            }
        }
    }
}

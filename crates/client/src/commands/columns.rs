//! `zesty column`.

use crate::cli::ColumnCommand;
use crate::runner::{Done, Runner, confirmed, log};
use crate::{exit, show};
use zesty_client::wire::{CollectionPatch, NewColumn};

impl Runner {
    pub async fn column(&self, command: ColumnCommand) -> Done {
        let c = &self.client;
        match command {
            ColumnCommand::Add { collection, column, dimensions, metric, encoder, template, backfill } => {
                let name = column.clone();
                let new = NewColumn { name, dimensions, metric: Some(metric), encoder, template };
                let after = c.add_column(&collection, &new).await?;
                if backfill {
                    return self.backfill(&collection, &column).await;
                }
                self.show(&after, show::collection);
                Ok(0)
            }
            ColumnCommand::Backfill { collection, column } => self.backfill(&collection, &column).await,
            ColumnCommand::Choose { collection, column } => {
                let patch =
                    CollectionPatch { default_column: Some(column.clone()), ..CollectionPatch::default() };
                c.patch_collection(&collection, &patch).await?;
                self.said(&format!("searches of {collection} that name no column use {column}"))
            }
            ColumnCommand::Unencoded { collection, column, limit } => {
                let column = match column {
                    Some(column) => column,
                    None => self.default_column(&collection).await?,
                };
                let found = c.unencoded(&collection, &column, limit).await?;
                self.show(&found, |u| show::unencoded(&column, u));
                Ok(if found.records.is_empty() { exit::NOTHING_FOUND } else { 0 })
            }
            ColumnCommand::Drop { collection, column, yes } => {
                let about = c.collection(&collection).await?;
                let n = about.columns.iter().find(|v| v.name == column).map_or(0, |v| v.n_vectors);
                if !yes
                    && !confirmed(&format!(
                        "Drop {column} of {collection} with its {} vectors?",
                        show::count(n as u64)
                    ))
                {
                    return Err("not dropped; --yes drops without asking".to_owned().into());
                }
                c.drop_column(&collection, &column).await?;
                self.said(&format!("dropped {column} of {collection}"))
            }
        }
    }

    async fn backfill(&self, collection: &str, column: &str) -> Done {
        let job = self.client.backfill(collection, column).await?;
        self.show(&self.watch(job.id).await?, log);
        Ok(0)
    }
}

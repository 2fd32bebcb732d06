//! `zesty queries`.

use crate::cli::{Drawn, MakeArgs, QueriesCommand};
use crate::commands::partial::Partial;
use crate::report;
use crate::runner::{Done, Failure, Runner, filter, log};
use indicatif::ProgressBar;
use std::io::Write;
use std::path::Path;
use zesty_client::load::{Progress, send_file};
use zesty_client::wire::{NewQuerySet, QueryKind};

/// Queries fetched at once.
const PAGE: u64 = 200;

impl Runner {
    async fn make_queries(&self, args: MakeArgs) -> Done {
        let mut file = None;
        if let Some(path) = &args.file {
            let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            let bar = ProgressBar::new(0);
            let mut progress = |p: Progress<'_>| {
                if let Progress::Sending(_, sent, Some(all)) = p {
                    bar.set_length(all);
                    bar.set_position(sent);
                }
            };
            let sent = send_file(&self.client, path, &name, None, &mut progress).await;
            bar.finish_and_clear();
            file = Some(sent.map_err(|e| Failure::from(e.to_string()))?.id);
        }
        let request = NewQuerySet {
            name: args.name.clone(),
            column: args.column,
            kind: match args.kind {
                Some(Drawn::Sampled) => QueryKind::Sampled,
                Some(Drawn::Blended) => QueryKind::Blended,
                Some(Drawn::Jittered) => QueryKind::Jittered,
                Some(Drawn::Captured) => QueryKind::Captured,
                None => QueryKind::Uploaded,
            },
            queries: args.queries,
            seed: args.seed,
            of: args.of,
            noise: args.noise,
            copies: args.no_copies.then_some(false),
            file: file.clone(),
            given: None,
            filter: filter(&args.filter),
        };
        let started = self.client.make_query_set(&args.collection, &request).await;
        // The service has read it, or never will.
        if let Some(id) = file {
            let _ = self.client.remove_file(&id).await;
        }
        let job = self.watch(started?.id).await?;
        if !self.json {
            eprintln!("{}", log(&job));
        }
        let made = self.client.query_set(&args.collection, &args.name).await?;
        self.show(&made, report::query_set);
        Ok(0)
    }

    async fn export_queries(&self, collection: &str, name: &str, file: &Path) -> Done {
        let wrong = |e: std::io::Error| Failure::from(format!("{}: {e}", file.display()));
        let stdout = file == Path::new("-");
        let mut partial = if stdout { None } else { Some(Partial::create(file).map_err(wrong)?) };
        let (mut from, mut n) = (0, 0);
        loop {
            let page = self.client.queries(collection, name, from, PAGE).await?;
            for query in &page.queries {
                let line = serde_json::to_string(query).unwrap_or_default();
                match &mut partial {
                    Some(out) => writeln!(out, "{line}"),
                    None => writeln!(std::io::stdout(), "{line}"),
                }
                .map_err(wrong)?;
                n += 1;
            }
            match page.next {
                Some(next) => from = next,
                None => break,
            }
        }
        let Some(partial) = partial else { return Ok(0) };
        partial.finish().map_err(wrong)?;
        self.said(&format!("{n} queries of {name} are in {}", file.display()))
    }

    pub async fn queries(&self, command: QueriesCommand) -> Done {
        match command {
            QueriesCommand::Make(args) => self.make_queries(args).await,
            QueriesCommand::List { collection } => {
                let all = self.client.query_sets(&collection).await?;
                let empty = format!(
                    "No query sets yet; `zesty queries make {collection} sampled --kind sampled` draws one."
                );
                self.show_list(&all, &empty, |all| report::query_sets(all).to_string())
            }
            QueriesCommand::Show { collection, name } => {
                self.show(&self.client.query_set(&collection, &name).await?, report::query_set);
                Ok(0)
            }
            QueriesCommand::Export { collection, name, file } => {
                self.export_queries(&collection, &name, &file).await
            }
            QueriesCommand::Answer { collection, name, k } => {
                let job = self.client.answer_query_set(&collection, &name, k).await?;
                self.watch(job.id).await?;
                self.show(&self.client.query_set(&collection, &name).await?, report::query_set);
                Ok(0)
            }
            QueriesCommand::Delete { collection, name } => {
                self.client.delete_query_set(&collection, &name).await?;
                self.said(&format!("query set {name} of {collection} is deleted"))
            }
        }
    }
}

//! `zesty export`.

use crate::cli::ExportArgs;
use crate::commands::inspect::name_of;
use crate::commands::partial::Partial;
use crate::runner::{Done, Runner, failure};
use crate::{exit, show};
use std::io::Write;
use std::path::Path;
use zesty_client::{Client, Error};
use zesty_files::Layout;

impl Runner {
    pub async fn export(&self, args: ExportArgs) -> Done {
        let (collection, file) = (args.collection.as_str(), args.file.as_path());
        let standard = file == Path::new("-");
        let format = args.format.clone().unwrap_or_else(|| match standard {
            true => "jsonlines".into(),
            false => Layout::of(&name_of(file)).name().into(),
        });
        let mut members = vec![("format", format), ("vectors", args.vectors.to_string())];
        members.extend(args.filter.clone().map(|f| ("filter", f)));
        members.extend(args.column.clone().map(|c| ("column", c)));
        let told = |e: Error| failure(&e, args.filter.as_deref());
        let (n, revision) = write_export(&self.client, collection, &members, file).await.map_err(told)?;
        if let Some(keys) = args.keys.as_deref() {
            let column = match args.column.clone() {
                Some(column) => column,
                None => self.default_column(collection).await?,
            };
            members.retain(|(name, _)| *name != "format" && *name != "column");
            members.extend([("format", "keys".to_owned()), ("column", column)]);
            let (n_keys, then) =
                write_export(&self.client, collection, &members, keys).await.map_err(told)?;
            if then != revision {
                return Err(format!(
                    "the collection changed between vectors and keys (revision {revision}, then {then}; {n} and \
                     {n_keys} rows): they may not belong together; export again"
                )
                .into());
            }
        }
        if !standard {
            self.said(&format!("{} records in {}", show::count(n), file.display()))?;
        }
        Ok(if n == 0 { exit::NOTHING_FOUND } else { 0 })
    }
}

/// Streams an export to a file; one that breaks off leaves no file that looks whole.
async fn write_export(
    client: &Client,
    collection: &str,
    query: &[(&str, String)],
    file: &Path,
) -> Result<(u64, u64), Error> {
    if file == Path::new("-") {
        let mut out = std::io::stdout();
        return client.export(collection, query, |bytes| out.write_all(bytes)).await;
    }
    let wrong = |e: std::io::Error| Error::Broken(format!("{}: {e}", file.display()));
    let mut out = Partial::create(file).map_err(wrong)?;
    let counts = client.export(collection, query, |bytes| out.write_all(bytes)).await?;
    out.finish().map_err(wrong)?;
    Ok(counts)
}

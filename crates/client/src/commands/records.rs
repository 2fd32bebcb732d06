//! `zesty record`.

use crate::cli::RecordCommand;
use crate::runner::{Done, Failure, Runner, confirmed, failure, filter as typed};
use crate::{exit, show};
use serde_json::json;
use zesty_client::Error;
use zesty_client::wire::{DeleteRequest, PatchRequest, RecordPatch};

impl Runner {
    pub async fn record(&self, command: RecordCommand) -> Done {
        let c = &self.client;
        let key = match &command {
            RecordCommand::Show { record, .. } => Some(record),
            RecordCommand::Set { words, filter: None, .. } => words.first(),
            RecordCommand::Delete { record, .. } => record.as_ref(),
            RecordCommand::List { .. } | RecordCommand::Set { .. } => None,
        };
        if let Some(key @ ("." | "..")) = key.map(String::as_str) {
            let text = format!("there is no record \"{key}\": a key is never . or ..");
            return Err(Failure { text, code: exit::NOTHING_FOUND });
        }
        match command {
            RecordCommand::List { collection, limit, sort, after, filter } => {
                let page =
                    c.records(&collection, after.as_deref(), limit, filter.as_deref(), sort.as_deref()).await;
                let page = page.map_err(|e| failure(&e, filter.as_deref()))?;
                let code = self.show_list(&page.records, "No records here.", |records| {
                    let mut t = show::table(&["key", "record"]);
                    for r in records {
                        t.add_row([r.key.clone(), show::fields(&r.fields)]);
                    }
                    t.to_string()
                })?;
                if let (Some(next), false) = (&page.next, self.json) {
                    eprintln!("more: --after '{next}'");
                }
                Ok(code)
            }
            RecordCommand::Show { collection, record, vectors } => {
                let found = c.record(&collection, &record, vectors).await?;
                self.show(&found, |r| {
                    let mut t = show::table(&["field", "value"]);
                    for (name, value) in r.fields.iter() {
                        t.add_row([name.clone(), show::plain(value)]);
                    }
                    let mut out = format!("{}  written at revision {}\n{t}", r.key, r.revision);
                    for (name, vector) in r.vectors.iter().flatten() {
                        out += &format!("\n{name}: {}", json!(vector));
                    }
                    out
                });
                Ok(0)
            }
            RecordCommand::Set { collection, words, filter, yes } => {
                self.set(&collection, words, filter, yes).await
            }
            RecordCommand::Delete { collection, record, filter: None, .. } => {
                let record = record.unwrap_or_default();
                c.delete_record(&collection, &record).await?;
                self.said(&format!("deleted {record} from {collection}"))
            }
            RecordCommand::Delete { collection, filter, yes, .. } => {
                self.delete_many(&collection, filter, yes).await
            }
        }
    }

    /// Sets fields of one record, or of all that a filter allows.
    async fn set(&self, collection: &str, mut words: Vec<String>, filter: Option<String>, yes: bool) -> Done {
        let record = filter.is_none().then(|| words.remove(0));
        if words.is_empty() {
            return Err("say what to set: FIELD=VALUE".to_owned().into());
        }
        let patch = patch_of(&words)?;
        if let Some(record) = record {
            let after = self.client.patch_record(collection, &record, &patch).await?;
            self.show(&after, |r| {
                format!("{} is at revision {}\n{}", r.key, r.revision, show::fields(&r.fields))
            });
            return Ok(0);
        }
        let told = |e: Error| failure(&e, filter.as_deref());
        let mut request =
            PatchRequest { keys: None, filter: typed(&filter), patch, dry_run: true, expected: None };
        let n = self.client.patch_records(collection, &request).await.map_err(told)?.matched;
        if n == 0 {
            eprintln!("the filter allows no record");
            return Ok(exit::NOTHING_FOUND);
        }
        let all = show::count(n);
        if !yes && !confirmed(&format!("Change {all} records of {collection}?")) {
            let why = format!("{all} records would change; nothing was: --yes changes without asking");
            return Err(why.into());
        }
        (request.dry_run, request.expected) = (false, Some(n));
        let done = self.client.patch_records(collection, &request).await.map_err(told)?;
        self.show(&done, |d| {
            format!(
                "changed {} records of {collection}, {} were already so{}; revision {}",
                show::count(d.changed),
                show::count(d.unchanged),
                show::left_out(d.left_out, &d.left_out_keys),
                d.revision
            )
        });
        Ok(0)
    }

    async fn delete_many(&self, collection: &str, filter: Option<String>, yes: bool) -> Done {
        let told = |e: Error| failure(&e, filter.as_deref());
        let mut request = DeleteRequest { keys: None, filter: typed(&filter), dry_run: true, expected: None };
        let n = self.client.delete_records(collection, &request).await.map_err(told)?.matched;
        if n == 0 {
            eprintln!("the filter allows no record");
            return Ok(exit::NOTHING_FOUND);
        }
        let all = show::count(n);
        if !yes && !confirmed(&format!("Delete {all} records from {collection}?")) {
            let why = format!("{all} records would be deleted; nothing was: --yes deletes without asking");
            return Err(why.into());
        }
        (request.dry_run, request.expected) = (false, Some(n));
        let gone = self.client.delete_records(collection, &request).await.map_err(told)?;
        self.show(&gone, |g| {
            format!(
                "deleted {} records from {collection}{}",
                show::count(g.deleted),
                show::left_out(g.left_out, &g.left_out_keys)
            )
        });
        Ok(0)
    }
}

/// FIELD=VALUE, with paths such as place.lat; a value is JSON, or text where it is none.
fn patch_of(words: &[String]) -> Result<RecordPatch, Failure> {
    let mut fields = json!({});
    for text in words {
        let (path, value) =
            text.split_once('=').ok_or_else(|| format!("write FIELD=VALUE, not \"{text}\""))?;
        let place = path.split('.').fold(&mut fields, |at, step| &mut at[step]);
        *place = serde_json::from_str(value).unwrap_or_else(|_| json!(value));
    }
    let fields = fields.as_object().cloned().unwrap_or_default();
    Ok(RecordPatch { fields, ..RecordPatch::default() })
}

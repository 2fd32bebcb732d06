//! `zesty collection` and `zesty fields`.

use crate::cli::{ChangeArgs, CollectionCommand, CreateArgs};
use crate::runner::{Done, Failure, Runner, failure, log, read_json, typed};
use crate::show;
use serde_json::{Value, json};
use zesty_client::wire::{
    CloneRequest, Collection, CollectionPatch, DroppedCollection, NewCollection, NewColumn, SwapRequest,
};

fn dropped(all: &[DroppedCollection]) -> String {
    let mut t = show::table(&[">id", "name", "dropped", "by", "restorable until", "about"]);
    for d in all {
        t.add_row([
            d.id.to_string(),
            d.name.clone(),
            show::when(&d.dropped_at),
            d.dropped_by.clone(),
            show::when(&d.restorable_until),
            show::shortened(&d.description, 60),
        ]);
    }
    t.to_string()
}

impl Runner {
    pub async fn collection(&self, command: CollectionCommand) -> Done {
        let c = &self.client;
        match command {
            CollectionCommand::List => {
                let all = c.collections().await?;
                self.show_list(
                    &all,
                    "No collections yet; `zesty collection create --help` shows how to make one.",
                    |a| show::collections(a).to_string(),
                )
            }
            CollectionCommand::Show { collection } => {
                self.show(&c.collection(&collection).await?, show::collection);
                Ok(0)
            }
            CollectionCommand::Create(args) => self.create(args).await,
            CollectionCommand::Change(args) => self.change(args).await,
            CollectionCommand::Cost { collection } => {
                self.show(&c.costs(&collection).await?, show::costs);
                Ok(0)
            }
            CollectionCommand::Loads { collection } => {
                let all = c.loads(&collection).await?;
                let empty =
                    format!("{collection} was never loaded from a file; `zesty load --help` shows how.");
                self.show_list(&all, &empty, |a| show::loads(a).to_string())
            }
            CollectionCommand::Drop { collection, confirm } => {
                let about = c.collection(&collection).await?;
                let question = format!(
                    "{collection} holds {} records. Type its name to drop it:",
                    show::count(about.n_records as u64)
                );
                let typed = confirm.or_else(|| typed(&question));
                if typed.as_deref() != Some(collection.as_str()) {
                    let text = format!("not dropped; --confirm {collection} drops it without asking");
                    return Err(text.into());
                }
                let dropped = c.drop_collection(&collection).await?;
                let text = format!(
                    "dropped {collection}; until {} `zesty collection restore {}` brings it back",
                    show::when(&dropped.restorable_until),
                    dropped.id
                );
                self.show(&dropped, |_| text);
                Ok(0)
            }
            CollectionCommand::Dropped => {
                let all = c.dropped_collections().await?;
                self.show_list(&all, "No dropped collections.", dropped)
            }
            CollectionCommand::Restore { dropped, name } => {
                let all = c.dropped_collections().await?;
                let named = |d: &&DroppedCollection| d.id.to_string() == dropped || d.name == dropped;
                // Of several with one name, the last that was dropped.
                let found = all.iter().find(named).ok_or_else(|| {
                    format!("no dropped collection {dropped}; `zesty collection dropped` lists them")
                })?;
                let back = c.restore_collection(found.id, name.as_deref()).await?;
                self.show(&back, |b| {
                    let n = show::count(b.n_records as u64);
                    format!(
                        "{} is back with {n} records; its {} indexes are built again",
                        b.name,
                        b.indexes.len()
                    )
                });
                Ok(0)
            }
            CollectionCommand::Purge { id, confirm } => {
                let typed = confirm.or_else(|| typed(&format!("Type {id} to delete it for good:")));
                if typed != Some(id.to_string()) {
                    return Err(format!("not deleted; --confirm {id} deletes it without asking").into());
                }
                c.purge_collection(id).await?;
                self.said(&format!("deleted dropped collection {id} for good"))
            }
            CollectionCommand::Rename { collection, name } => {
                let renamed = c.rename_collection(&collection, &name).await?;
                self.show(&renamed, |r| format!("{collection} is called {} now", r.name));
                Ok(0)
            }
            CollectionCommand::Swap { collection, with, anyway } => {
                let both = c.swap_collections(&collection, &SwapRequest { with, anyway }).await?;
                self.show(&both, |all| {
                    let line = |c: &Collection| {
                        format!("{} holds {} records now", c.name, show::count(c.n_records as u64))
                    };
                    all.iter().map(line).collect::<Vec<_>>().join("\n")
                });
                Ok(0)
            }
            CollectionCommand::Clone { collection, name, without_indexes } => {
                let request = CloneRequest { name, without_indexes };
                let job = c.clone_collection(&collection, &request).await?;
                let job = self.watch(job.id).await?;
                self.show(&job, log);
                Ok(0)
            }
        }
    }

    async fn create(&self, args: CreateArgs) -> Done {
        let created = match &args.file {
            // As it is in the file: the service says what is wrong with it.
            Some(file) => {
                let mut input = read_json(file)?;
                if let (Some(name), Some(members)) = (args.collection, input.as_object_mut()) {
                    members.insert("name".into(), json!(name));
                }
                self.client.create_collection(&input).await?
            }
            None => {
                let has_column = args.column.is_some() || args.dimensions.is_some() || args.encoder.is_some();
                let column = NewColumn {
                    name: args.column.unwrap_or_else(|| "meaning".into()),
                    dimensions: args.dimensions,
                    metric: Some(args.metric),
                    encoder: args.encoder,
                    template: args.template,
                };
                let request = NewCollection {
                    name: args.collection.unwrap_or_default(),
                    description: args.description,
                    fields: args.fields.as_deref().map(read_json).transpose()?,
                    columns: if has_column { vec![column] } else { Vec::new() },
                };
                self.client.create_collection(&request).await?
            }
        };
        self.show(&created, show::collection);
        Ok(0)
    }

    async fn change(&self, args: ChangeArgs) -> Done {
        let ChangeArgs { collection, description, fields, add, widen, describe } = args;
        let c = &self.client;
        let edits = !(add.is_empty() && widen.is_empty() && describe.is_empty());
        // What is edited here must still be what is changed there.
        let mut version = None;
        let mut schema = match &fields {
            Some(file) => Some(read_json(file)?),
            None if edits => {
                let about = c.collection(&collection).await?;
                version = Some(about.schema_version);
                Some(about.fields)
            }
            None => None,
        };
        if let Some(schema) = &mut schema {
            edit_schema(schema, &add, &widen, &describe)?;
        }
        if schema.is_none() && description.is_none() {
            let why = "nothing to change: give --description, --fields, --add, --widen or --describe";
            return Err(why.to_owned().into());
        }
        let patch = CollectionPatch { description, fields: schema, default_column: None };
        let after = match version {
            Some(version) => c.patch_collection_at(&collection, version, &patch).await?,
            None => c.patch_collection(&collection, &patch).await?,
        };
        self.show(&after, show::collection);
        Ok(0)
    }

    pub async fn fields(&self, collection: &str, filter: Option<String>, values: u64) -> Done {
        let counted = self.client.fields(collection, filter.as_deref(), values).await;
        let counted = counted.map_err(|e| failure(&e, filter.as_deref()))?;
        self.show(&counted, |f| show::field_counts(f).to_string());
        Ok(0)
    }
}

/// The place of a field in a JSON Schema, by dotted path.
fn property<'a>(schema: &'a mut Value, path: &str) -> &'a mut Value {
    let mut at = schema;
    for (i, step) in path.split('.').enumerate() {
        if i > 0 && at.get("type").is_none() {
            at["type"] = json!("object");
        }
        at = &mut at["properties"][step];
    }
    at
}

fn pair(text: &str) -> Result<(&str, &str), Failure> {
    text.split_once('=').ok_or_else(|| format!("write NAME=VALUE, not \"{text}\"").into())
}

fn edit_schema(
    schema: &mut Value,
    add: &[String],
    widen: &[String],
    describe: &[String],
) -> Result<(), Failure> {
    for (text, new) in add.iter().map(|t| (t, true)).chain(widen.iter().map(|t| (t, false))) {
        let (path, kind) = pair(text)?;
        let described = match kind {
            "string" | "integer" | "number" | "boolean" => json!({"type": kind}),
            "date" => json!({"type": "string", "format": "date"}),
            "timestamp" => json!({"type": "string", "format": "date-time"}),
            "strings" => json!({"type": "array", "items": {"type": "string"}}),
            "integers" => json!({"type": "array", "items": {"type": "integer"}}),
            other => {
                let known = "string, integer, number, boolean, date, timestamp, strings, integers";
                return Err(format!("\"{other}\" is not a type; the types are {known}").into());
            }
        };
        let place = property(schema, path);
        if new == place.is_object() {
            let what = if new {
                "exists already; --widen changes its type"
            } else {
                "does not exist; --add makes it"
            };
            return Err(format!("field \"{path}\" {what}").into());
        }
        let kept = place.get("description").cloned();
        *place = described;
        if let Some(text) = kept {
            place["description"] = text;
        }
    }
    for text in describe {
        let (path, words) = pair(text)?;
        let place = property(schema, path);
        if !place.is_object() {
            return Err(format!("there is no field \"{path}\" to describe").into());
        }
        place["description"] = json!(words);
    }
    Ok(())
}

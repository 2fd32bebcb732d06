//! What each command does.

use crate::cli::*;
use crate::loading::{ExportQuery, Wish, inspect};
use crate::{exit, show};
use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;
use serde_json::{Map, Value, json};
use std::io::{BufRead, IsTerminal, Write};
use std::path::Path;
use zesty_client::connection::Connection;
use zesty_client::shapes::{Job, Search};
use zesty_client::{Client, Error};

/// What is printed to standard error, and the exit code.
pub struct Failure {
    pub text: String,
    pub code: u8,
}

impl From<String> for Failure {
    fn from(text: String) -> Self {
        Failure { text, code: exit::FAILED }
    }
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        failure(&error, None)
    }
}

pub fn failure(error: &Error, filter: Option<&str>) -> Failure {
    match error {
        Error::Refused(p) => {
            let code = match p.word() {
                "no-key" => exit::NO_SERVICE,
                "unknown-name" => exit::NOTHING_FOUND,
                _ => exit::FAILED,
            };
            Failure { text: show::problem(p, filter), code }
        }
        Error::Unreachable { .. } => Failure { text: error.to_string(), code: exit::NO_SERVICE },
        Error::Broken(_) => Failure { text: error.to_string(), code: exit::FAILED },
    }
}

pub type Done = Result<u8, Failure>;

fn read_text(path: &Path) -> Result<String, Failure> {
    if path == Path::new("-") {
        return std::io::read_to_string(std::io::stdin())
            .map_err(|e| Failure::from(format!("standard input: {e}")));
    }
    std::fs::read_to_string(path).map_err(|e| Failure::from(format!("{}: {e}", path.display())))
}

fn read_json(path: &Path) -> Result<Value, Failure> {
    serde_json::from_str(&read_text(path)?).map_err(|e| format!("{}: not JSON: {e}", path.display()).into())
}

/// Prints to standard output; a closed pipe (`| head`) is no mistake.
pub fn print(text: impl std::fmt::Display) {
    let _ = writeln!(std::io::stdout(), "{text}");
}

pub struct Runner {
    pub client: Client,
    pub json: bool,
}

pub async fn run(cli: Cli) -> Done {
    match &cli.command {
        Command::Connect => return connect(cli.url, cli.key).await,
        // Looking into a file needs no service.
        Command::Inspect { file, vectors, becoming, encoder, write } => {
            let wish = Wish { becoming, encoder: encoder.as_deref() };
            return inspect(file, vectors.as_deref(), wish, write.as_deref(), cli.json);
        }
        _ => {}
    }
    let connection =
        Connection::find(cli.url, cli.key).map_err(|text| Failure { text, code: exit::NO_SERVICE })?;
    let runner = Runner { client: Client::new(&connection.url, &connection.key), json: cli.json };
    runner.run(cli.command).await
}

async fn connect(url: Option<String>, key: Option<String>) -> Done {
    let key = key.ok_or_else(|| Failure::from("give the key with --key or ZESTY_KEY".to_owned()))?;
    let url = url.unwrap_or_else(|| zesty_client::connection::DEFAULT_URL.into());
    let service = Client::new(&url, &key).service().await?;
    let path = Connection { url: url.clone(), key }.save().map_err(|e| e.to_string())?;
    print(format_args!("{url} answers (version {}); saved in {}", service.version, path.display()));
    Ok(0)
}

impl Runner {
    /// JSON as it came, or what people read.
    pub fn show<T: Serialize>(&self, value: &T, text: impl FnOnce(&T) -> String) {
        if self.json {
            print(serde_json::to_string_pretty(value).unwrap_or_default());
        } else {
            print(text(value));
        }
    }

    /// A list; nothing in it is said so, and is exit code 3 for scripts.
    pub fn show_list<T: Serialize>(
        &self,
        list: &[T],
        empty: &str,
        text: impl FnOnce(&[T]) -> String,
    ) -> Done {
        if self.json {
            print(serde_json::to_string_pretty(list).unwrap_or_default());
        } else if list.is_empty() {
            eprintln!("{empty}");
        } else {
            print(text(list));
        }
        Ok(if list.is_empty() { exit::NOTHING_FOUND } else { 0 })
    }

    pub fn said(&self, text: &str) -> Done {
        if self.json {
            print(json!({"done": text}));
        } else {
            print(text);
        }
        Ok(0)
    }

    async fn run(&self, command: Command) -> Done {
        let c = &self.client;
        match command {
            Command::Connect | Command::Inspect { .. } | Command::Completions { .. } => Ok(0),
            Command::Status => {
                let service = c.service().await?;
                self.show(&service, |s| {
                    format!(
                        "{} {} at {}, up {}\ndatabase {}; {} records in {} collections; {} kernels; node {}",
                        s.service,
                        s.version,
                        c.url(),
                        show::seconds(s.up_s),
                        if s.database { "answers" } else { "DOES NOT ANSWER" },
                        show::count(s.n_records as u64),
                        s.n_collections,
                        s.kernels,
                        s.node
                    )
                });
                Ok(0)
            }
            Command::Console => {
                let link = c.sign_in_link().await?;
                self.show(&json!({"link": link}), |_| {
                    format!("{link}\nIt signs one browser in, once, within 15 minutes.")
                });
                Ok(0)
            }
            Command::Collection(command) => self.collection(command).await,
            Command::Load(args) => self.load(args).await,
            Command::Export { collection, file, filter, vectors, format, column, keys } => {
                let query = ExportQuery { filter, vectors, format, column };
                self.export(&collection, &file, query, keys.as_deref()).await
            }
            Command::Column(command) => self.column(command).await,
            Command::Fields { collection, filter, values } => {
                let counted = c.fields(&collection, filter.as_deref(), values).await;
                let counted = counted.map_err(|e| failure(&e, filter.as_deref()))?;
                self.show(&counted, |f| show::field_counts(f).to_string());
                Ok(0)
            }
            Command::Record(command) => self.record(command).await,
            Command::Index(command) => self.index(command).await,
            Command::Search(args) => self.search(*args).await,
            Command::Recipe(RecipeCommand::Check {
                recipe,
                collection,
                column,
                rows,
                dimensions,
                metric,
            }) => {
                let mut input = json!({"recipe": recipe_value(&recipe)?});
                give(
                    &mut input,
                    [
                        ("collection", collection.map(|v| json!(v))),
                        ("column", column.map(|v| json!(v))),
                        ("rows", rows.map(|v| json!(v))),
                        ("dimensions", dimensions.map(|v| json!(v))),
                        ("metric", metric.map(|v| json!(v))),
                    ],
                );
                let explained = c.check_recipe(&input).await.map_err(|e| recipe_failure(&e, &recipe))?;
                self.show(&explained, show::explained);
                Ok(0)
            }
            Command::Sweep(command) => self.sweep(command).await,
            Command::Serving { collection, index, beam, visit, rescore, exact: _, column } => {
                let column = match column {
                    Some(column) => column,
                    None => self.default_column(&collection).await?,
                };
                let settings = settings(beam, visit, rescore).unwrap_or_else(|| json!({}));
                let choice = index.as_deref().map(|i| (i, settings));
                let after = c.set_serving(&collection, &column, choice).await?;
                self.show(&after, |a| show::collections(std::slice::from_ref(a)).to_string());
                Ok(0)
            }
            Command::Job(command) => self.job(command).await,
            Command::Encoder(command) => self.encoder(command).await,
            Command::Key(command) => self.key(command).await,
        }
    }

    pub async fn default_column(&self, collection: &str) -> Result<String, Failure> {
        let found = self.client.collection(collection).await?.default_column;
        found.ok_or_else(|| {
            format!("{collection} has no vector column yet; `zesty column add {collection} NAME` adds one")
                .into()
        })
    }

    async fn collection(&self, command: CollectionCommand) -> Done {
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
            CollectionCommand::Create(a) => {
                let input = match &a.file {
                    Some(file) => {
                        let mut input = read_json(file)?;
                        if let (Some(name), Some(members)) = (a.collection, input.as_object_mut()) {
                            members.insert("name".into(), json!(name));
                        }
                        input
                    }
                    None => {
                        let has_column = a.column.is_some() || a.dimensions.is_some() || a.encoder.is_some();
                        let name = a.column.as_deref().unwrap_or("meaning");
                        let mut column = json!({"name": name, "metric": a.metric});
                        for (name, value) in [
                            ("dimensions", a.dimensions.map(|d| json!(d))),
                            ("encoder", a.encoder.map(|e| json!(e))),
                            ("template", a.template.map(|t| json!(t))),
                        ] {
                            if let Some(value) = value {
                                column[name] = value;
                            }
                        }
                        let columns = if has_column { vec![column] } else { Vec::new() };
                        let mut input =
                            json!({"name": a.collection, "description": a.description, "columns": columns});
                        if let Some(fields) = &a.fields {
                            input["fields"] = read_json(fields)?;
                        }
                        input
                    }
                };
                self.show(&c.create_collection(&input).await?, show::collection);
                Ok(0)
            }
            CollectionCommand::Change { collection, description, fields, add, widen, describe } => {
                let mut patch = Map::new();
                if let Some(text) = description {
                    patch.insert("description".into(), json!(text));
                }
                let edits = !(add.is_empty() && widen.is_empty() && describe.is_empty());
                // What is edited here must still be what is changed there.
                let mut shape = None;
                let mut schema = match &fields {
                    Some(file) => Some(read_json(file)?),
                    None if edits => {
                        let about = c.collection(&collection).await?;
                        shape = Some(about.shape);
                        Some(about.fields)
                    }
                    None => None,
                };
                if let Some(schema) = &mut schema {
                    edit_schema(schema, &add, &widen, &describe)?;
                    patch.insert("fields".into(), schema.clone());
                }
                if patch.is_empty() {
                    return Err(
                        "nothing to change: give --description, --fields, --add, --widen or --describe"
                            .to_owned()
                            .into(),
                    );
                }
                let patch = Value::Object(patch);
                let after = match shape {
                    Some(shape) => c.patch_collection_at(&collection, shape, &patch).await?,
                    None => c.patch_collection(&collection, &patch).await?,
                };
                self.show(&after, show::collection);
                Ok(0)
            }
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
            CollectionCommand::Delete { collection, yes } => {
                let about = c.collection(&collection).await?;
                if !yes
                    && !confirmed(&format!(
                        "Delete {collection} with its {} records?",
                        show::count(about.n_records as u64)
                    ))
                {
                    return Err("not deleted; --yes deletes without asking".to_owned().into());
                }
                c.delete_collection(&collection).await?;
                self.said(&format!("deleted {collection}"))
            }
        }
    }

    async fn record(&self, command: RecordCommand) -> Done {
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
                    for (name, value) in &r.fields {
                        t.add_row([name.clone(), show::plain(value)]);
                    }
                    let mut out = format!("{}  written at revision {}\n{t}", r.key, r.revision);
                    for (name, vector) in
                        r.rest.get("vectors").and_then(Value::as_object).into_iter().flatten()
                    {
                        out += &format!("\n{name}: {vector}");
                    }
                    out
                });
                Ok(0)
            }
            RecordCommand::Set { collection, mut words, filter, yes } => {
                let record = filter.is_none().then(|| words.remove(0));
                let mut fields = json!({});
                for text in &words {
                    let (path, value) =
                        text.split_once('=').ok_or_else(|| format!("write FIELD=VALUE, not \"{text}\""))?;
                    let place = path.split('.').fold(&mut fields, |at, step| &mut at[step]);
                    *place = serde_json::from_str(value).unwrap_or_else(|_| json!(value));
                }
                if words.is_empty() {
                    return Err("say what to set: FIELD=VALUE".to_owned().into());
                }
                let patch = json!({"fields": fields});
                if let Some(record) = record {
                    let after = c.patch_record(&collection, &record, &patch).await?;
                    self.show(&after, |r| {
                        format!("{} is at revision {}\n{}", r.key, r.revision, show::fields(&r.fields))
                    });
                    return Ok(0);
                }
                let told = |e: Error| failure(&e, filter.as_deref());
                let mut input = json!({"filter": filter, "patch": patch, "dry_run": true});
                let n = c.patch_records(&collection, &input).await.map_err(told)?.matched;
                if n == 0 {
                    eprintln!("the filter allows no record");
                    return Ok(exit::NOTHING_FOUND);
                }
                let all = show::count(n as u64);
                if !yes && !confirmed(&format!("Change {all} records of {collection}?")) {
                    return Err(format!(
                        "{all} records would change; nothing was changed: --yes changes without asking"
                    )
                    .into());
                }
                input["dry_run"] = json!(false);
                input["expected"] = json!(n);
                let done = c.patch_records(&collection, &input).await.map_err(told)?;
                self.show(&done, |d| {
                    format!(
                        "changed {} records of {collection}, {} were so already{}; revision {}",
                        show::count(d.changed as u64),
                        show::count(d.unchanged as u64),
                        show::left_out(d.left_out, &d.left_out_keys),
                        d.revision
                    )
                });
                Ok(0)
            }
            RecordCommand::Delete { collection, record, filter, yes } => {
                let Some(filter) = filter else {
                    let record = record.unwrap_or_default();
                    c.delete_record(&collection, &record).await?;
                    return self.said(&format!("deleted {record} from {collection}"));
                };
                let told = |e: Error| failure(&e, Some(&filter));
                let count = c.delete_records(&collection, &json!({"filter": filter, "dry_run": true})).await;
                let n = count.map_err(told)?.matched;
                if n == 0 {
                    eprintln!("the filter allows no record");
                    return Ok(exit::NOTHING_FOUND);
                }
                let all = show::count(n as u64);
                if !yes && !confirmed(&format!("Delete {all} records from {collection}?")) {
                    return Err(
                        format!("{all} records would go; not deleted: --yes deletes without asking").into()
                    );
                }
                let input = json!({"filter": filter, "expected": n});
                let gone = c.delete_records(&collection, &input).await.map_err(told)?;
                self.show(&gone, |g| {
                    format!(
                        "deleted {} records from {collection}{}",
                        show::count(g.deleted as u64),
                        show::left_out(g.left_out, &g.left_out_keys)
                    )
                });
                Ok(0)
            }
        }
    }

    /// Follows a job with a bar; a job that does not end well is a failure.
    pub async fn watch(&self, id: i64) -> Result<Job, Failure> {
        let bar = ProgressBar::new(0)
            .with_style(style("{msg}  {bar:30} {percent:>3}%  {human_pos}/{human_len}  left {eta}"));
        let job = self
            .client
            .watch_job(id, |j| {
                bar.set_length(j.total);
                bar.set_position(j.done);
                let stage = j.stage.as_ref().map(|s| format!(": {s}")).unwrap_or_default();
                bar.set_message(format!("{} {}{stage}", j.kind, j.subject));
            })
            .await;
        bar.finish_and_clear();
        let job = job?;
        match job.state.as_str() {
            "done" => Ok(job),
            state => {
                let why = job.error.clone().map(|e| format!(": {e}")).unwrap_or_default();
                Err(format!("job {id} ({} {}) is {state}{why}", job.kind, job.subject).into())
            }
        }
    }

    async fn index(&self, command: IndexCommand) -> Done {
        let c = &self.client;
        match command {
            IndexCommand::Build { collection, recipe, name, column, seed, threads, background } => {
                let mut input = json!({"recipe": recipe_value(&recipe)?});
                give(
                    &mut input,
                    [
                        ("name", name.map(|v| json!(v))),
                        ("column", column.map(|v| json!(v))),
                        ("seed", seed.map(|v| json!(v))),
                        ("threads", threads.map(|v| json!(v))),
                    ],
                );
                let job =
                    c.build_index(&collection, &input).await.map_err(|e| recipe_failure(&e, &recipe))?;
                if background {
                    self.show(&job, |j| {
                        format!(
                            "building {} as job {}; `zesty job watch {}` follows it",
                            j.subject, j.id, j.id
                        )
                    });
                    return Ok(0);
                }
                let job = self.watch(job.id).await?;
                self.show(&job, log);
                Ok(0)
            }
            IndexCommand::List { collection } => {
                let all = c.indexes(&collection).await?;
                let empty = format!("{collection} has no index; `zesty index build {collection}` makes one.");
                self.show_list(&all, &empty, |a| show::indexes(a).to_string())
            }
            IndexCommand::Absorb { collection, index } => {
                let job = c.absorb(&collection, &index).await?;
                let job = self.watch(job.id).await?;
                self.show(&job, log);
                Ok(0)
            }
            IndexCommand::Drop { collection, index } => {
                c.drop_index(&collection, &index).await?;
                self.said(&format!("dropped {index}"))
            }
        }
    }

    /// What all options but the query itself say of a search.
    fn search_options(a: &SearchArgs) -> Map<String, Value> {
        let list = |v: &Vec<String>| (!v.is_empty()).then(|| json!(v));
        let given = [
            ("k", Some(json!(a.k))),
            ("unlike", list(&a.unlike)),
            ("include_self", a.include_self.then(|| json!(true))),
            ("filter", a.filter.as_ref().map(|v| json!(v))),
            ("skip", a.skip.map(|v| json!(v))),
            ("leave_out", list(&a.leave_out)),
            ("min_score", a.min_score.map(|v| json!(v))),
            ("max_distance", a.max_distance.map(|v| json!(v))),
            ("at_most", a.at_most.as_ref().map(|(field, hits)| json!({"field": field, "hits": hits}))),
            ("time_limit_ms", a.time_limit.map(|v| json!(v))),
            ("sort", a.sort.as_ref().map(|v| json!(v))),
            ("follow", list(&a.follow)),
            ("vectors", list(&a.vectors)),
            ("explain", a.explain.then(|| json!(true))),
            ("exact", a.exact.then(|| json!(true))),
            ("fields", a.fields.as_ref().map(|v| json!(v))),
            ("column", a.column.as_ref().map(|v| json!(v))),
            ("encoder", a.encoder.as_ref().map(|v| json!(v))),
            ("index", a.index.as_ref().map(|v| json!(v))),
            ("settings", settings(a.beam, a.visit, a.rescore)),
        ];
        given.into_iter().filter_map(|(name, value)| Some((name.to_owned(), value?))).collect()
    }

    async fn search(&self, a: SearchArgs) -> Done {
        if let Some(file) = &a.batch {
            return self.search_batch(&a, file).await;
        }
        let mut input = Self::search_options(&a);
        let mut set = |name: &str, value: Value| drop(input.insert(name.into(), value));
        match (&a.text, a.like.as_slice(), &a.vector) {
            (Some(text), _, _) => set("text", json!(text)),
            (_, [one], _) => set("like", json!(one)),
            (_, [_, ..], _) => set("like", json!(a.like)),
            (_, _, Some(vector)) => {
                let text = match vector.strip_prefix('@') {
                    Some(file) => read_text(Path::new(file))?,
                    None => vector.clone(),
                };
                let vector: Value = serde_json::from_str(&text)
                    .map_err(|e| format!("--vector is not a JSON array of numbers: {e}"))?;
                set("vector", vector);
            }
            _ => {}
        }
        let chosen = a.fields.clone();
        let ask = async |input: Map<String, Value>| {
            let answer = self.client.search(&a.collection, &Value::Object(input)).await;
            answer.map_err(|e| failure(&e, a.filter.as_deref()))
        };
        let answer = ask(input.clone()).await?;
        if a.compare {
            input.remove("index");
            input.remove("settings");
            input.insert("exact".into(), json!(true));
            let exact = ask(input).await?;
            self.show(&json!({"approximate": answer, "exact": exact}), |_| {
                compared(&answer, &exact, chosen.as_deref())
            });
        } else if a.csv {
            print(show::csv(&[(None, &answer)], chosen.as_deref())?.trim_end());
        } else {
            self.show(&answer, |s| {
                let mut parts = Vec::new();
                if !s.hits.is_empty() {
                    parts.push(show::hits(&s.hits, chosen.as_deref(), &[]).to_string());
                }
                parts.push(match s.rest.get("explain").and_then(|e| e["text"].as_str()) {
                    Some(tree) => tree.trim_end().to_owned(),
                    None => show::via(s),
                });
                parts.join("\n")
            });
        }
        if !self.json {
            answer.notices.iter().for_each(|n| eprintln!("notice: {}", n.text));
        }
        Ok(if answer.hits.is_empty() { exit::NOTHING_FOUND } else { 0 })
    }

    /// A search for each line of a file, a hundred in a request.
    async fn search_batch(&self, a: &SearchArgs, file: &Path) -> Done {
        let text = read_text(file)?;
        let mut searches = Vec::new();
        for (i, line) in text.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()) {
            let mut input = Self::search_options(a);
            let own = if line.trim_start().starts_with('{') {
                serde_json::from_str(line).map_err(|e| format!("{}, line {}: {e}", file.display(), i + 1))?
            } else {
                Map::from_iter([("text".to_owned(), json!(line.trim()))])
            };
            input.extend(own);
            searches.push((line.trim().to_owned(), Value::Object(input)));
        }
        let mut answers: Vec<Search> = Vec::with_capacity(searches.len());
        for (part, some) in searches.chunks(100).enumerate() {
            let inputs: Vec<&Value> = some.iter().map(|s| &s.1).collect();
            let found = self.client.searches(&a.collection, &json!({"searches": inputs})).await;
            let found = found.map_err(|e| {
                let mut failure = failure(&e, a.filter.as_deref());
                if part > 0 {
                    failure.text = format!(
                        "searches {} to {}: {}",
                        part * 100 + 1,
                        part * 100 + some.len(),
                        failure.text
                    );
                }
                failure
            })?;
            answers.extend(found);
        }
        let named: Vec<(Option<&str>, &Search)> =
            searches.iter().map(|s| Some(s.0.as_str())).zip(&answers).collect();
        if a.csv {
            print(show::csv(&named, a.fields.as_deref())?.trim_end());
        } else {
            self.show(&answers, |_| {
                let lists = named.iter().map(|(query, answer)| {
                    let hits = show::hits(&answer.hits, a.fields.as_deref(), &[]);
                    format!("{}\n{hits}\n{}", query.unwrap_or_default(), show::via(answer))
                });
                lists.collect::<Vec<_>>().join("\n\n")
            });
        }
        if !self.json {
            for (query, answer) in &named {
                let query = query.unwrap_or_default();
                answer.notices.iter().for_each(|n| eprintln!("notice, {query}: {}", n.text));
            }
        }
        Ok(if answers.iter().all(|a| a.hits.is_empty()) { exit::NOTHING_FOUND } else { 0 })
    }

    async fn sweep(&self, command: SweepCommand) -> Done {
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
                let mut input = json!({"index": index});
                give(
                    &mut input,
                    [
                        ("queries", queries.map(|v| json!(v))),
                        ("k", k.map(|v| json!(v))),
                        ("beams", beams.map(|v| json!(v))),
                        ("visits", visits.map(|v| json!(v))),
                        ("rescore", rescore.map(|v| json!(v))),
                        ("seed", seed.map(|v| json!(v))),
                    ],
                );
                let job = c.run_sweep(&collection, &input).await?;
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
                            s.created_at.clone(),
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

    async fn job(&self, command: JobCommand) -> Done {
        let c = &self.client;
        match command {
            JobCommand::List => {
                let all = c.jobs().await?;
                self.show_list(&all, "No jobs yet.", |a| show::jobs(a).to_string())
            }
            JobCommand::Show { job } => {
                self.show(&c.job(job).await?, |j| {
                    format!("{}\n{}", show::jobs(std::slice::from_ref(j)), log(j))
                });
                Ok(0)
            }
            JobCommand::Watch { job } => {
                self.show(&self.watch(job).await?, log);
                Ok(0)
            }
            JobCommand::Cancel { job } => {
                self.show(&c.cancel_job(job).await?, |j| {
                    format!("asked job {} to stop; it is {}", j.id, j.state)
                });
                Ok(0)
            }
        }
    }

    async fn encoder(&self, command: EncoderCommand) -> Done {
        let c = &self.client;
        let table = |all: &[zesty_client::shapes::Encoder]| {
            let mut t = show::table(&["encoder", ">dimensions", "model", "address"]);
            for e in all {
                t.add_row([e.name.clone(), e.dimensions.to_string(), e.model.clone(), e.url.clone()]);
            }
            t.to_string()
        };
        match command {
            EncoderCommand::List => self.show_list(
                &c.encoders().await?,
                "No encoders; `zesty encoder set --help` shows how to name one.",
                table,
            ),
            EncoderCommand::Set { encoder, at, model } => {
                let known = c.put_encoder(&encoder, &at, &model).await?;
                self.show(&known, |e| table(std::slice::from_ref(e)));
                Ok(0)
            }
            EncoderCommand::Remove { encoder } => {
                c.remove_encoder(&encoder).await?;
                self.said(&format!("forgot {encoder}"))
            }
        }
    }

    async fn key(&self, command: KeyCommand) -> Done {
        let c = &self.client;
        match command {
            KeyCommand::List => self.show_list(&c.keys().await?, "No keys.", |all| {
                let mut t = show::table(&["key", "made"]);
                for k in all {
                    t.add_row([k.name.clone(), k.created_at.clone()]);
                }
                t.to_string()
            }),
            KeyCommand::Make { name } => {
                let made = c.make_key(&name).await?;
                self.show(&made, |k| k.key.clone());
                if !self.json {
                    eprintln!("This is shown once; only its hash is kept.");
                }
                Ok(0)
            }
            KeyCommand::Remove { name } => {
                c.remove_key(&name).await?;
                self.said(&format!("removed {name}"))
            }
        }
    }
}

pub fn style(template: &str) -> ProgressStyle {
    ProgressStyle::with_template(template).expect("the template is right").progress_chars("━━╌")
}

pub fn log(job: &Job) -> String {
    job.log.iter().map(|l| l.text.as_str()).collect::<Vec<_>>().join("\n")
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
                return Err(format!("\"{other}\" is no type; the types are {known}").into());
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

/// Asks on a terminal; elsewhere the answer is no.
pub fn confirmed(question: &str) -> bool {
    if !std::io::stdin().is_terminal() {
        return false;
    }
    eprint!("{question} [y/N] ");
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line).is_ok() && line.trim().eq_ignore_ascii_case("y")
}

/// Both answers, and what the approximate one missed.
fn compared(answer: &Search, exact: &Search, chosen: Option<&[String]>) -> String {
    let missed: Vec<String> = exact
        .hits
        .iter()
        .filter(|e| !answer.hits.iter().any(|h| h.key == e.key))
        .map(|h| h.key.clone())
        .collect();
    let n = exact.hits.len();
    let found = n - missed.len();
    let pace = exact.took.search_us / answer.took.search_us.max(1.0);
    format!(
        "exact answer (○ marks what the approximate one missed)\n{}\n{}\n{}\nfound {found} of {n}; search {} against {}, {pace:.0} times faster",
        show::hits(&exact.hits, chosen, &missed),
        show::via(exact),
        show::via(answer),
        show::micros(answer.took.search_us),
        show::micros(exact.took.search_us),
    )
}

/// The settings that were given; nothing for none.
fn settings(beam: Option<u64>, visit: Option<u64>, rescore: Option<u64>) -> Option<Value> {
    let given = [("beam", beam), ("visit", visit), ("rescore", rescore)];
    let map: Map<String, Value> =
        given.iter().filter_map(|(w, n)| Some(((*w).to_owned(), json!((*n)?)))).collect();
    (!map.is_empty()).then_some(Value::Object(map))
}

/// A recipe on the command line: one line of text, or the JSON form.
fn recipe_value(text: &str) -> Result<Value, Failure> {
    if !text.trim_start().starts_with('{') {
        return Ok(json!(text));
    }
    serde_json::from_str(text).map_err(|e| Failure::from(format!("the recipe is not JSON: {e}")))
}

/// A refusal with the place in the recipe marked.
fn recipe_failure(error: &Error, recipe: &str) -> Failure {
    let mut failure = failure(error, None);
    if let Error::Refused(problem) = error
        && let Some(start) = problem.rest.get("at").and_then(|at| at["start"].as_u64())
        && !recipe.trim_start().starts_with('{')
    {
        let before = recipe.get(..start as usize).map_or(0, |t| t.chars().count());
        failure.text = format!("{}\n  {recipe}\n  {}^", failure.text, " ".repeat(before));
    }
    failure
}

/// Puts into a body what was given of the parts that may be left out.
fn give<const N: usize>(input: &mut Value, parts: [(&str, Option<Value>); N]) {
    for (word, value) in parts {
        if let Some(value) = value {
            input[word] = value;
        }
    }
}

//! Commands around files: inspect, load, export; and the vector columns that loads fill.

use crate::cli::{Becoming, ColumnCommand, LoadArgs};
use crate::run::{Done, Failure, Runner, confirmed, failure, log, print, style};
use crate::{exit, show};
use indicatif::ProgressBar;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};
use zesty_client::load::{LoadError, Plan, Progress, follow_load, start_load};
use zesty_client::shapes::LoadDone;
use zesty_client::{Client, Error};
use zesty_files::{Format, Inspection, Layout, Limits, Named};

/// What an export asks for.
pub struct ExportQuery {
    pub filter: Option<String>,
    pub vectors: bool,
    pub format: Option<String>,
    pub column: Option<String>,
}

fn name_of(path: &Path) -> String {
    path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default()
}

/// What a file is to become, as it was asked for.
#[derive(Clone, Copy)]
pub struct Wish<'a> {
    pub becoming: &'a Becoming,
    pub encoder: Option<&'a str>,
}

impl Wish<'_> {
    /// The types that were chosen, by the file's name of the field.
    fn types(self, file: &Path) -> Result<BTreeMap<String, String>, Failure> {
        let mut types = BTreeMap::new();
        if self.becoming.types.is_empty() {
            return Ok(types);
        }
        let found = looked_into(file, &types)?;
        for pair in &self.becoming.types {
            let (field, kind) =
                pair.split_once('=').ok_or_else(|| format!("write FIELD=TYPE, not \"{pair}\""))?;
            let kind = match kind {
                "strings" => "array of strings",
                "integers" => "array of integers",
                plain => plain,
            };
            // By either name: that in the file, or the one that the collection takes.
            let source = found.fields.iter().find(|f| f.name == field).map_or(field, |f| &f.source);
            types.insert(source.to_owned(), kind.to_owned());
        }
        Ok(types)
    }
}

fn looked_into(path: &Path, types: &BTreeMap<String, String>) -> Result<Inspection, Failure> {
    let named = Named { path: path.into(), name: path.display().to_string() };
    zesty_files::inspect_as(&named, Limits::default(), types).map_err(|e| e.to_string().into())
}

/// A name that a collection takes, from the name of a file.
fn collection_name(file: &Path) -> String {
    let stem = name_of(file).split('.').next().unwrap_or("").to_lowercase();
    let plain =
        stem.chars().map(|c| if c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' { c } else { '_' });
    let name: String = plain.take(60).collect();
    if name.starts_with(|c: char| c.is_ascii_lowercase()) { name } else { format!("c-{name}") }
}

/// The description of a collection that the files fit, as the API takes it.
fn description(name: &str, found: &Inspection, beside: Option<&Inspection>, wish: Wish<'_>) -> Value {
    let vectors = found.vectors.iter().chain(beside.into_iter().flat_map(|b| &b.vectors));
    let mut columns: Vec<Value> = vectors
        .map(|v| {
            let mut column = json!({"name": v.name, "dimensions": v.dimensions, "metric": "cosine"});
            if let Some(encoder) = wish.encoder {
                column["encoder"] = json!(encoder);
            }
            column
        })
        .collect();
    if let (Some(encoder), Some(template)) = (wish.encoder, &wish.becoming.template) {
        let own = wish.becoming.column.as_deref();
        match columns.as_mut_slice() {
            // Vectors that the file lacks are made by the encoder that made the others.
            [only] if own.is_none_or(|own| only["name"] == own) => only["template"] = json!(template),
            _ => columns
                .push(json!({"name": own.unwrap_or("meaning"), "metric": "cosine", "encoder": encoder,
                "template": template})),
        }
    }
    json!({"name": name, "fields": found.schema(), "columns": columns})
}

/// The options with which a file goes into a collection made from it.
fn options(found: &Inspection) -> Vec<String> {
    let mapping = found.mapping();
    let mut options: Vec<String> = mapping.key.iter().map(|k| format!("--key-column '{k}'")).collect();
    options.extend(mapping.rename.iter().map(|(from, to)| format!("--rename '{from}={to}'")));
    options
}

/// Shows what a file holds. Needs no service.
pub fn inspect(
    file: &Path,
    vectors: Option<&Path>,
    wish: Wish<'_>,
    write: Option<&Path>,
    as_json: bool,
) -> Done {
    let found = looked_into(file, &wish.types(file)?)?;
    let beside = vectors.map(|v| looked_into(v, &BTreeMap::new())).transpose()?;
    if as_json {
        let shown = json!({"records": found, "vectors": beside, "schema": found.schema(), "mapping": found.mapping()});
        print(serde_json::to_string_pretty(&shown).unwrap_or_default());
    } else {
        print(show::inspection(&found));
        if let Some(beside) = &beside {
            print(show::inspection(beside));
            if let (Some(a), Some(b)) = (found.n_rows, beside.n_rows)
                && a != b
            {
                eprintln!(
                    "zesty: {} has {a} rows and {} has {b}: match them by key",
                    found.file, beside.file
                );
            }
        }
        let options = options(&found);
        if !options.is_empty() {
            print(format_args!("to load it: {}", options.join(" ")));
        }
    }
    if let Some(path) = write {
        let name = collection_name(file);
        let about = description(&name, &found, beside.as_ref(), wish);
        let text = serde_json::to_string_pretty(&about).unwrap_or_default();
        let mut out = std::fs::File::create_new(path).map_err(|e| format!("{}: {e}", path.display()))?;
        writeln!(out, "{text}").map_err(|e| format!("{}: {e}", path.display()))?;
        let load = options(&found).iter().map(|o| format!(" {o}")).collect::<String>();
        eprintln!(
            "wrote {}; edit it, then: zesty collection create --file {}, and: zesty load {name} {}{load}",
            path.display(),
            path.display(),
            file.display()
        );
    }
    Ok(0)
}

/// A bar for bytes that are sent, then for the job.
struct Bars {
    sending: Option<ProgressBar>,
    loading: Option<ProgressBar>,
}

impl Bars {
    fn show(&mut self, progress: &Progress) {
        match progress {
            Progress::Sending(name, sent, total) => {
                let bar = self.sending.get_or_insert_with(|| {
                    ProgressBar::new(total.unwrap_or(0)).with_style(style(
                        "sending {msg}  {bar:30} {percent:>3}%  {bytes}/{total_bytes}  left {eta}",
                    ))
                });
                bar.set_length(total.unwrap_or(*sent));
                bar.set_position(*sent);
                bar.set_message((*name).to_owned());
            }
            Progress::Loading(job) => {
                if let Some(bar) = self.sending.take() {
                    bar.finish_and_clear();
                }
                let bar = self.loading.get_or_insert_with(|| {
                    ProgressBar::new(0)
                        .with_style(style("loading  {bar:30} {percent:>3}%  {bytes}/{total_bytes}  {msg}"))
                });
                bar.set_length(job.total);
                bar.set_position(job.done);
                let count = |name: &str| job.counts.as_ref().and_then(|c| c[name].as_u64()).unwrap_or(0);
                let left = job.left_s.map_or(String::new(), |s| format!(", {} left", show::seconds(s)));
                bar.set_message(format!(
                    "{} rows, {}/s, {} rejected{left}",
                    show::count(count("read")),
                    show::count(count("rows_per_s")),
                    show::count(count("rejected"))
                ));
            }
        }
    }

    fn clear(&mut self) {
        self.sending.take().into_iter().chain(self.loading.take()).for_each(|b| b.finish_and_clear());
    }
}

fn load_failure(error: LoadError, collection: &str) -> Failure {
    match error {
        LoadError::Service(error @ Error::Unreachable { .. }) => {
            let Failure { text, code } = failure(&error, None);
            let text = format!("{text}\nwhen it is back: zesty load {collection} --resume goes on");
            Failure { text, code }
        }
        LoadError::Service(error @ Error::Broken(_)) => {
            let Failure { text, code } = failure(&error, None);
            let text = format!("{text}\nthe load may go on, or be resumed: zesty load {collection} --resume");
            Failure { text, code }
        }
        LoadError::Service(error) => failure(&error, None),
        LoadError::File { .. } => Failure { text: error.to_string(), code: exit::FAILED },
        LoadError::Stopped { load, why, job } => {
            let read = job.counts.as_ref().and_then(|c| c["read"].as_u64()).unwrap_or(0);
            let text = format!(
                "{why}\n{} rows were committed in this run; load {load} goes on with: zesty load {collection} --resume",
                show::count(read)
            );
            Failure { text, code: exit::FAILED }
        }
    }
}

impl Runner {
    /// Looks into the file, shows what it becomes, asks, and creates the collection. Returns the arguments with which the
    /// file goes into it.
    async fn create_for(&self, args: LoadArgs) -> Result<LoadArgs, Failure> {
        let c = &self.client;
        let collection = args.collection.clone();
        let Some(file) = args.file.clone().filter(|f| f != Path::new("-")) else {
            return Err("--create looks into the file first, so it cannot be standard input"
                .to_owned()
                .into());
        };
        if c.collections().await?.iter().any(|known| known.name == collection) {
            let why = format!("collection {collection} exists already; leave out --create to load into it");
            return Err(why.into());
        }
        let wish = Wish { becoming: &args.becoming, encoder: args.encoder.as_deref() };
        let found = looked_into(&file, &wish.types(&file)?)?;
        let beside: Vec<Inspection> = args
            .vectors
            .iter()
            .map(|v| looked_into(&vector_file(v).1, &BTreeMap::new()))
            .collect::<Result<_, _>>()?;
        if !self.json {
            print(show::inspection(&found));
            beside.iter().for_each(|b| print(show::inspection(b)));
        }
        let has_vectors = !found.vectors.is_empty() || !beside.is_empty();
        if !has_vectors && (args.encoder.is_none() || args.becoming.template.is_none()) {
            return Err(self.what_could_encode(&found).await?.into());
        }
        let about = description(&collection, &found, beside.first(), wish);
        let columns = about["columns"].as_array().into_iter().flatten();
        let columns: Vec<String> = columns
            .map(|v| {
                let name = v["name"].as_str().unwrap_or_default();
                match (v["encoder"].as_str(), v["template"].as_str()) {
                    (Some(encoder), Some(template)) => format!("{name} ({encoder} reads {template})"),
                    _ => format!("{name} ({} dimensions)", v["dimensions"]),
                }
            })
            .collect();
        let rejected: u64 = found.fields.iter().filter_map(|f| f.choices.first()).map(|c| c.n_rejected).sum();
        let rejected = match (rejected, &args.set_aside) {
            (0, _) => String::new(),
            (1, Some(path)) => format!("; one row goes to {}", path.display()),
            (1, None) => "; one row is rejected, and stops the load".to_owned(),
            (n, Some(path)) => format!("; up to {} rows go to {}", show::count(n), path.display()),
            (n, None) => {
                format!("; up to {} rows are rejected, and the first stops the load", show::count(n))
            }
        };
        let n_fields = found.fields.len();
        let fields = if n_fields == 1 { "field" } else { "fields" };
        let question = format!(
            "Create {collection} with {n_fields} {fields} and {}, and load {}{rejected}?",
            columns.join(", "),
            name_of(&file)
        );
        if !args.yes && !confirmed(&question) {
            return Err(format!("{question}\nnothing was created; --yes creates without asking").into());
        }
        c.create_collection(&about).await?;
        let mapping = found.mapping();
        let mut rename = args.rename.clone();
        for (from, to) in &mapping.rename {
            if !rename.iter().any(|pair| pair.split('=').next() == Some(from)) {
                rename.push(format!("{from}={to}"));
            }
        }
        Ok(LoadArgs { key_column: args.key_column.clone().or(mapping.key), rename, ..args })
    }

    /// What is missing to make vectors of texts: which encoders there are, and which fields they could read.
    async fn what_could_encode(&self, found: &Inspection) -> Result<String, Failure> {
        let encoders = self.client.encoders().await?;
        let known: Vec<String> =
            encoders.iter().map(|e| format!("{} ({} dimensions)", e.name, e.dimensions)).collect();
        let texts: Vec<String> =
            found.fields.iter().filter(|f| f.r#type == "string").map(|f| format!("{{{}}}", f.name)).collect();
        let known = match known.is_empty() {
            true => "no encoder is known yet; `zesty encoder set --help` shows how to name one".to_owned(),
            false => format!("the encoders are {}", known.join(", ")),
        };
        let texts = if texts.is_empty() {
            "no field holds text".into()
        } else {
            format!("fields of text are {}", texts.join(", "))
        };
        Ok(format!(
            "{} holds no vectors, so an encoder has to make them: say which with --encoder, and what it reads with \
             --template; {known}; {texts}",
            found.file
        ))
    }

    pub async fn load(&self, args: LoadArgs) -> Done {
        let becoming = &args.becoming;
        if !args.create && (becoming.template.is_some() || !becoming.types.is_empty()) {
            let why = "--template and --type say what a new collection is made of: give --create with them";
            return Err(why.to_owned().into());
        }
        let args = if args.create { self.create_for(args).await? } else { args };
        let start = std::time::Instant::now();
        let mut bars = Bars { sending: None, loading: None };
        let outcome = self.load_with(&args, &mut bars).await;
        bars.clear();
        let Some((load, done)) = outcome? else { return Ok(0) };
        let seconds = start.elapsed().as_secs_f64();
        let collection = &args.collection;
        self.show(&done, |d| show::load_done(collection, d, seconds));
        if !self.json {
            done.notices.iter().for_each(|n| eprintln!("notice: {n}"));
        }
        self.keep_rejects(&args, load, &done).await?;
        if !done.adds_up {
            return Err("the counts do not add up; please report this".to_owned().into());
        }
        Ok(0)
    }

    async fn keep_rejects(&self, args: &LoadArgs, load: i64, done: &LoadDone) -> Result<(), Failure> {
        let (Some(path), 1..) = (&args.set_aside, done.rejected) else { return Ok(()) };
        let text = self.client.rejects(&args.collection, load).await?;
        // Neither the file that was loaded nor rejects of an earlier load are written over.
        let written = std::fs::File::create_new(path).and_then(|mut f| f.write_all(&text));
        written.map_err(|e| {
            format!("{}: {e}; the service keeps the rejected rows of load {load}", path.display())
        })?;
        eprintln!("{} has the rejected rows with their reasons; mend and load it", path.display());
        Ok(())
    }

    /// The load's number and what it did; nothing when it goes on by itself.
    async fn load_with(&self, args: &LoadArgs, bars: &mut Bars) -> Result<Option<(i64, LoadDone)>, Failure> {
        if let Some(path) = args.set_aside.as_ref().filter(|p| p.exists()) {
            return Err(format!("{}: exists already; give --set-aside another file", path.display()).into());
        }
        let collection = &args.collection;
        let told = |e: LoadError| load_failure(e, collection);
        let mut progress = |p: Progress| bars.show(&p);
        let begun = if args.resume { self.client.files().await? } else { Vec::new() };
        let (load, job) = match (args.resume, self.left(args).await?) {
            (true, Some(found)) => found,
            (true, None) if args.file.is_none() => {
                let why = format!(
                    "nothing of {collection} is left to resume; `zesty collection loads {collection}` lists its loads"
                );
                return Err(Failure { text: why, code: exit::NOTHING_FOUND });
            }
            _ => start_load(&self.client, collection, &plan(args)?, &begun, &mut progress)
                .await
                .map_err(told)?,
        };
        if args.background {
            self.said(&format!("load {load} goes on as job {job}; `zesty job watch {job}` follows it"))?;
            return Ok(None);
        }
        let done = follow_load(&self.client, load, job, &mut progress).await.map_err(told)?;
        Ok(Some((load, done)))
    }

    /// The last load of the collection that did not end well, gone on with, or that still runs.
    async fn left(&self, args: &LoadArgs) -> Result<Option<(i64, i64)>, Failure> {
        if !args.resume {
            return Ok(None);
        }
        let mut names: Vec<String> = args.file.iter().map(|f| name_of(f)).collect();
        names.extend(args.vectors.iter().map(|v| name_of(&vector_file(v).1)));
        let loads = self.client.loads(&args.collection).await?;
        let fits = |files: &[String]| names.is_empty() || names.iter().any(|n| files.contains(n));
        let found = loads.into_iter().find(|l| l.state != "done" && fits(&l.files));
        let Some(load) = found else { return Ok(None) };
        if load.state == "running" {
            return Ok(Some((load.id, load.job)));
        }
        let input = match args.set_aside {
            Some(_) => json!({"bad_rows": "set-aside"}),
            None => json!({}),
        };
        eprintln!("resuming load {} after {} rows", load.id, show::count(load.read));
        let started = self.client.resume_load(&args.collection, load.id, &input).await?;
        Ok(Some((started.load, started.job.id)))
    }

    pub async fn export(
        &self,
        collection: &str,
        file: &Path,
        query: ExportQuery,
        keys: Option<&Path>,
    ) -> Done {
        let standard = file == Path::new("-");
        let format = query.format.clone().unwrap_or_else(|| match standard {
            true => "jsonlines".into(),
            false => Layout::of(&name_of(file)).name().into(),
        });
        let mut members = vec![("format", format), ("vectors", query.vectors.to_string())];
        members.extend(query.filter.clone().map(|f| ("filter", f)));
        members.extend(query.column.clone().map(|c| ("column", c)));
        let told = |e: Error| failure(&e, query.filter.as_deref());
        let (n, revision) = write_export(&self.client, collection, &members, file).await.map_err(told)?;
        if let Some(keys) = keys {
            let column = match query.column.clone() {
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

    pub async fn column(&self, command: ColumnCommand) -> Done {
        let c = &self.client;
        match command {
            ColumnCommand::Add { collection, column, dimensions, metric, encoder, template, fill } => {
                let mut input = json!({"name": column, "metric": metric});
                for (name, value) in [
                    ("dimensions", dimensions.map(|d| json!(d))),
                    ("encoder", encoder.map(|e| json!(e))),
                    ("template", template.map(|t| json!(t))),
                ] {
                    if let Some(value) = value {
                        input[name] = value;
                    }
                }
                let after = c.add_column(&collection, &input).await?;
                if fill {
                    return self.fill(&collection, &column).await;
                }
                self.show(&after, show::collection);
                Ok(0)
            }
            ColumnCommand::Fill { collection, column } => self.fill(&collection, &column).await,
            ColumnCommand::Choose { collection, column } => {
                c.patch_collection(&collection, &json!({"default_column": column})).await?;
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

    async fn fill(&self, collection: &str, column: &str) -> Done {
        let job = self.client.fill_column(collection, column).await?;
        self.show(&self.watch(job.id).await?, log);
        Ok(0)
    }
}

/// `COLUMN=FILE`, or a file for the default column.
fn vector_file(text: &str) -> (Option<String>, PathBuf) {
    let plain =
        |c: &str| !c.is_empty() && c.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '-');
    match text.split_once('=') {
        Some((column, file)) if plain(column) => (Some(column.into()), file.into()),
        _ => (None, text.into()),
    }
}

fn plan(args: &LoadArgs) -> Result<Plan, Failure> {
    let mut options = json!({});
    let mut rename = serde_json::Map::new();
    for pair in &args.rename {
        let (from, to) = pair.split_once('=').ok_or_else(|| format!("write FROM=TO, not \"{pair}\""))?;
        rename.insert(from.into(), json!(to));
    }
    for (name, value) in [
        ("match", args.matching.as_ref().map(|m| json!(m))),
        ("key", args.key_column.as_ref().map(|k| json!(k))),
        ("rename", (!rename.is_empty()).then(|| Value::Object(rename))),
        ("only", args.only.as_ref().map(|o| json!(o))),
        ("encoder", args.encoder.as_ref().map(|e| json!(e))),
        ("known", args.merge.then(|| json!("merge"))),
        ("batch", args.batch.map(|b| json!(b))),
        ("bad_rows", args.set_aside.as_ref().map(|_| json!("set-aside"))),
    ] {
        if let Some(value) = value {
            options[name] = value;
        }
    }
    let mut vectors: Vec<_> = args.vectors.iter().map(|v| vector_file(v)).collect();
    let mut records = args.file.clone();
    if let Some(file) = records.take_if(|f| Format::of(&name_of(f)).is_matrix()) {
        vectors.insert(0, (None, file));
    }
    if args.vector_keys.is_some() && vectors.len() != 1 {
        return Err(
            format!("--vector-keys belongs to one file of vectors; there are {}", vectors.len()).into()
        );
    }
    let vectors =
        vectors.into_iter().map(|(column, file)| (column, file, args.vector_keys.clone())).collect();
    Ok(Plan { records, vectors, options, stdin_name: args.stdin_name.clone() })
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
    let partial = file.with_file_name(format!("{}.partial", name_of(file)));
    let mut out = std::io::BufWriter::new(std::fs::File::create(&partial).map_err(wrong)?);
    let written = client.export(collection, query, |bytes| out.write_all(bytes)).await;
    let finished = written.and_then(|counts| {
        out.flush().map_err(wrong)?;
        std::fs::rename(&partial, file).map_err(wrong)?;
        Ok(counts)
    });
    if finished.is_err() {
        let _ = std::fs::remove_file(&partial);
    }
    finished
}

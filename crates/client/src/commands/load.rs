//! `zesty load`: sends files and follows the job that reads them.

use crate::cli::LoadArgs;
use crate::commands::inspect::{Wish, description, inspected, name_of};
use crate::runner::{Done, Failure, Runner, confirmed, failure, print, style};
use crate::{exit, show};
use indicatif::ProgressBar;
use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};
use zesty_client::Error;
use zesty_client::load::{LoadError, LoadFiles, Progress, VectorFile, follow_load, start_load};
use zesty_client::wire::{BadRows, Known, LoadRequest, LoadResult, Match, ResumeRequest};
use zesty_files::{Format, Inspection};

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
                bar.set_length(job.total as u64);
                bar.set_position(job.done as u64);
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
            let text = format!("{text}\nwhen it is back, continue with: zesty load {collection} --resume");
            Failure { text, code }
        }
        LoadError::Service(error @ Error::Broken(_)) => {
            let Failure { text, code } = failure(&error, None);
            let text = format!(
                "{text}\nthe load may still be running. Otherwise continue it with: zesty load {collection} --resume"
            );
            Failure { text, code }
        }
        LoadError::Service(error) => failure(&error, None),
        LoadError::File { .. } => Failure { text: error.to_string(), code: exit::FAILED },
        LoadError::Stopped { load, why, job } => {
            let read = job.counts.as_ref().and_then(|c| c["read"].as_u64()).unwrap_or(0);
            let text = format!(
                "{why}\n{} rows were committed in this run; continue load {load} with: zesty load {collection} --resume",
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
            return Err("--create inspects the file first, so it cannot be standard input".to_owned().into());
        };
        if c.collections().await?.iter().any(|known| known.name == collection) {
            let why = format!("collection {collection} exists already; leave out --create to load into it");
            return Err(why.into());
        }
        let wish = Wish { becoming: &args.becoming, encoder: args.encoder.as_deref() };
        let found = inspected(&file, &wish.types(&file)?)?;
        let side: Vec<Inspection> = args
            .vectors
            .iter()
            .map(|v| inspected(&vector_file(v).1, &BTreeMap::new()))
            .collect::<Result<_, _>>()?;
        if !self.json {
            print(show::inspection(&found));
            side.iter().for_each(|b| print(show::inspection(b)));
        }
        let has_vectors = !found.vectors.is_empty() || !side.is_empty();
        if !has_vectors && (args.encoder.is_none() || args.becoming.template.is_none()) {
            return Err(self.what_could_encode(&found).await?.into());
        }
        let about = description(&collection, &found, side.first(), wish);
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

    async fn keep_rejects(&self, args: &LoadArgs, load: i64, done: &LoadResult) -> Result<(), Failure> {
        let (Some(path), 1..) = (&args.set_aside, done.rejected) else { return Ok(()) };
        let text = self.client.rejects(&args.collection, load).await?;
        // Neither the file that was loaded nor rejects of an earlier load are written over.
        let written = std::fs::File::create_new(path).and_then(|mut f| f.write_all(&text));
        written.map_err(|e| {
            format!("{}: {e}; the service keeps the rejected rows of load {load}", path.display())
        })?;
        eprintln!("{} has the rejected rows with their reasons; correct it and load it", path.display());
        Ok(())
    }

    /// The load's number and what it did; nothing when it goes on by itself.
    async fn load_with(
        &self,
        args: &LoadArgs,
        bars: &mut Bars,
    ) -> Result<Option<(i64, LoadResult)>, Failure> {
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
            _ => start_load(&self.client, collection, &files_of(args)?, &begun, &mut progress)
                .await
                .map_err(told)?,
        };
        if args.background {
            self.said(&format!("load {load} continues as job {job}; `zesty job watch {job}` follows it"))?;
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
        let request = ResumeRequest { bad_rows: args.set_aside.as_ref().map(|_| BadRows::SetAside) };
        eprintln!("resuming load {} after {} rows", load.id, show::count(load.read));
        let started = self.client.resume_load(&args.collection, load.id, &request).await?;
        Ok(Some((started.load, started.job.id)))
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

fn files_of(args: &LoadArgs) -> Result<LoadFiles, Failure> {
    let mut rename = BTreeMap::new();
    for pair in &args.rename {
        let (from, to) = pair.split_once('=').ok_or_else(|| format!("write FROM=TO, not \"{pair}\""))?;
        rename.insert(from.to_owned(), to.to_owned());
    }
    let options = LoadRequest {
        matching: match args.matching.as_deref() {
            Some("key") => Match::Key,
            _ => Match::Row,
        },
        key: args.key_column.clone(),
        rename,
        only: args.only.clone(),
        encoder: args.encoder.clone(),
        known: args.merge.then_some(Known::Merge),
        batch: args.batch.map(|n| n as usize),
        bad_rows: if args.set_aside.is_some() { BadRows::SetAside } else { BadRows::Stop },
        ..LoadRequest::default()
    };
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
    let keys = &args.vector_keys;
    let vectors = vectors.into_iter().map(|(column, file)| VectorFile { column, file, keys: keys.clone() });
    let vectors = vectors.collect();
    Ok(LoadFiles { records, vectors, options, stdin_name: args.stdin_name.clone() })
}

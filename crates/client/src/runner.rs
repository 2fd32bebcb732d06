//! What every command works with: the client, what is printed, and the exit code.

use crate::{exit, show};
use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;
use serde_json::{Value, json};
use std::io::{BufRead, IsTerminal, Write};
use std::path::Path;
use zesty_client::wire::{Filter, Job, Settings};
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

pub fn read_text(path: &Path) -> Result<String, Failure> {
    if path == Path::new("-") {
        return std::io::read_to_string(std::io::stdin())
            .map_err(|e| Failure::from(format!("standard input: {e}")));
    }
    std::fs::read_to_string(path).map_err(|e| Failure::from(format!("{}: {e}", path.display())))
}

pub fn read_json(path: &Path) -> Result<Value, Failure> {
    serde_json::from_str(&read_text(path)?).map_err(|e| format!("{}: not JSON: {e}", path.display()).into())
}

/// Prints to standard output; a closed pipe (`| head`) is no mistake.
pub fn print(text: impl std::fmt::Display) {
    let _ = writeln!(std::io::stdout(), "{text}");
}

pub fn style(template: &str) -> ProgressStyle {
    ProgressStyle::with_template(template).expect("the template is right").progress_chars("━━╌")
}

pub fn log(job: &Job) -> String {
    job.log.iter().map(|l| l.text.as_str()).collect::<Vec<_>>().join("\n")
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

/// What is typed on a terminal in answer to a question; nothing elsewhere.
pub fn typed(question: &str) -> Option<String> {
    if !std::io::stdin().is_terminal() {
        return None;
    }
    eprint!("{question} ");
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line).ok()?;
    Some(line.trim().to_owned())
}

/// A filter as it was typed.
pub fn filter(text: &Option<String>) -> Option<Filter> {
    text.as_deref().map(Filter::from)
}

/// The settings that were given; nothing for none.
pub fn settings(beam: Option<usize>, visit: Option<usize>, rescore: Option<usize>) -> Option<Settings> {
    let given = Settings { beam, visit, rescore };
    (given != Settings::default()).then_some(given)
}

/// The first of a list that has the newest first; without any, exit code 3 and what would make one.
pub fn newest<T>(all: Vec<T>, none: impl FnOnce() -> String) -> Result<T, Failure> {
    let first = all.into_iter().next();
    first.ok_or_else(|| Failure { text: none(), code: exit::NOTHING_FOUND })
}

pub struct Runner {
    pub client: Client,
    pub json: bool,
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

    /// Saves a measurement; the ending of the file says the format, and - is CSV on standard output.
    pub async fn save_report(&self, collection: &str, (kind, id): (&str, i64), file: &Path) -> Done {
        let stdout = file == Path::new("-");
        let format = match stdout {
            true => "csv".into(),
            false => file.extension().map(|e| e.to_string_lossy().into_owned()).unwrap_or_default(),
        };
        let bytes = self.client.report(collection, id, &format).await?;
        if stdout {
            print(String::from_utf8_lossy(&bytes).trim_end());
            return Ok(0);
        }
        std::fs::write(file, &bytes).map_err(|e| format!("{}: {e}", file.display()))?;
        self.said(&format!("{kind} {id} of {collection} is in {}", file.display()))
    }

    pub async fn default_column(&self, collection: &str) -> Result<String, Failure> {
        let found = self.client.collection(collection).await?.default_column;
        found.ok_or_else(|| {
            format!("{collection} has no vector column yet; `zesty column add {collection} NAME` adds one")
                .into()
        })
    }

    /// Follows a job with a bar; a job that does not end well is a failure.
    pub async fn watch(&self, id: i64) -> Result<Job, Failure> {
        let bar = ProgressBar::new(0)
            .with_style(style("{msg}  {bar:30} {percent:>3}%  {human_pos}/{human_len}  left {eta}"));
        let job = self
            .client
            .watch_job(id, |j| {
                bar.set_length(j.total as u64);
                bar.set_position(j.done as u64);
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
}

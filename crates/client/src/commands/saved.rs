//! `zesty saved`.

use crate::cli::{SavedCommand, ValuesArgs};
use crate::runner::{Done, Failure, Runner, failure, print, read_json};
use crate::{exit, show};
use serde_json::json;
use zesty_client::wire::{SavedSearch, SavedTraffic, SavedVersion};

fn parameters(version: &SavedVersion) -> String {
    let mut t = show::table(&["parameter", "takes", "when absent", "about"]);
    for (name, about) in &version.definition.parameters {
        let absent = match &about.default {
            Some(default) => default.to_string(),
            None if about.optional => "left out".into(),
            None => "refused".into(),
        };
        let takes = version.takes.get(name).cloned().unwrap_or_default();
        t.add_row([name.clone(), takes, absent, show::shortened(&about.description, 60)]);
    }
    t.to_string()
}

fn list(all: &[SavedSearch]) -> String {
    let mut t = show::table(&["saved search", ">live", ">newest", "parameters", "about", "trouble"]);
    for saved in all {
        let live = saved.versions.iter().find(|v| Some(v.version) == saved.live);
        let shown = live.or(saved.versions.first());
        let names = shown.map(|v| v.definition.parameters.keys().cloned().collect::<Vec<_>>().join(", "));
        t.add_row([
            saved.name.clone(),
            saved.live.map_or("draft".into(), |v| v.to_string()),
            saved.versions.first().map_or(String::new(), |v| v.version.to_string()),
            names.unwrap_or_default(),
            shown.map(|v| show::shortened(&v.definition.description, 60)).unwrap_or_default(),
            saved.trouble.clone().unwrap_or_default(),
        ]);
    }
    t.to_string()
}

fn shown(saved: &SavedSearch, traffic: &SavedTraffic, url: &str) -> String {
    let live = saved.versions.iter().find(|v| Some(v.version) == saved.live);
    let mut out = format!("{}: {}\n", saved.collection, saved.name);
    if let Some(version) = live.or(saved.versions.first()) {
        if !version.definition.description.is_empty() {
            out += &format!("{}\n", version.definition.description);
        }
        out += &format!("{}\n", parameters(version));
        let search = serde_json::to_string_pretty(&version.definition.search).unwrap_or_default();
        out += &format!("version {} asks {search}\n", version.version);
    }
    if let Some(trouble) = &saved.trouble {
        out += &format!("It does not fit the collection any more: {trouble}\n");
    }
    let mut t = show::table(&[">version", "made", "by", "answers"]);
    for v in &saved.versions {
        let answers = if Some(v.version) == saved.live { "yes" } else { "" };
        t.add_row([v.version.to_string(), show::when(&v.made_at), v.made_by.clone(), answers.into()]);
    }
    out += &format!("{t}\n");
    match saved.live {
        Some(_) => out += &format!("answers at {url}{}\n", saved.path),
        None => {
            out += &format!(
                "a draft: `zesty saved live {} {} N` lets a version answer\n",
                saved.collection, saved.name
            )
        }
    }
    let micros = |us: Option<f64>| us.map_or("none".into(), show::micros);
    out += &format!(
        "last hour on this node: {} searches, p50 {}, p99 {}",
        show::count(traffic.searches),
        micros(traffic.p50_us),
        micros(traffic.p99_us)
    );
    for o in &traffic.observed {
        out += &format!(
            "\nobserved recall of index {} in 24 h: {:.3} ({:.3} to {:.3}) in {} searches",
            o.index,
            o.recall_mean,
            o.recall_low,
            o.recall_high,
            show::count(o.searches)
        );
    }
    out
}

/// `parameter=value` pairs.
fn pairs(values: &[String]) -> Result<Vec<(String, String)>, Failure> {
    let pair = |text: &String| {
        let (name, value) = text.split_once('=').filter(|(name, _)| !name.is_empty()).ok_or_else(|| {
            let text = format!("{text} is not PARAMETER=VALUE, such as q='fog bell'");
            Failure { text, code: exit::FAILED }
        })?;
        Ok((name.to_owned(), value.to_owned()))
    };
    values.iter().map(pair).collect()
}

impl Runner {
    pub async fn saved(&self, command: SavedCommand) -> Done {
        let c = &self.client;
        match command {
            SavedCommand::List { collection } => {
                let empty = format!("{collection} has no saved searches; `zesty saved save` makes one.");
                self.show_list(&c.saved_searches(&collection).await?, &empty, list)
            }
            SavedCommand::Show { collection, name } => {
                let saved = c.saved_search(&collection, &name).await?;
                let traffic = c.saved_traffic(&collection, &name).await?;
                let both = json!({"saved": saved, "traffic": traffic});
                self.show(&both, |_| shown(&saved, &traffic, c.url()));
                Ok(0)
            }
            SavedCommand::Print { collection, name, version } => {
                let found = self.version(&collection, &name, version).await?;
                print(serde_json::to_string_pretty(&found.definition).unwrap_or_default());
                Ok(0)
            }
            SavedCommand::Save { collection, name, file, live } => {
                let definition = read_json(&file)?;
                let mut saved = c.save_search(&collection, &name, &definition).await.map_err(|e| {
                    let text = definition["search"]["filter"].as_str();
                    failure(&e, text)
                })?;
                let version = saved.versions.first().map_or(0, |v| v.version);
                if live {
                    saved = c.set_live(&collection, &name, version).await?;
                }
                let now = match live {
                    true => format!(
                        "version {version} of {name} is saved, and answers at {}{}",
                        c.url(),
                        saved.path
                    ),
                    false => format!(
                        "version {version} of {name} is saved; try it with `zesty saved try {collection} {name}`, then \
                         `zesty saved live {collection} {name} {version}`"
                    ),
                };
                self.show(&saved, |_| now);
                Ok(0)
            }
            SavedCommand::Ask(args) => self.ask_saved(args, None).await,
            SavedCommand::Try { args, version } => {
                let version = self.version(&args.collection, &args.name, version).await?.version;
                self.ask_saved(args, Some(version)).await
            }
            SavedCommand::Live { collection, name, version } => {
                let saved = c.set_live(&collection, &name, version).await?;
                let text = format!("version {version} of {name} answers at {}{}", c.url(), saved.path);
                self.show(&saved, |_| text);
                Ok(0)
            }
            SavedCommand::Withdraw { collection, name } => {
                let saved = c.withdraw_saved(&collection, &name).await?;
                self.show(&saved, |_| format!("no version of {name} answers now"));
                Ok(0)
            }
            SavedCommand::Remove { collection, name } => {
                c.remove_saved(&collection, &name).await?;
                self.said(&format!("removed {name}"))
            }
        }
    }

    /// A version of a saved search: the newest unless one is named.
    async fn version(
        &self,
        collection: &str,
        name: &str,
        version: Option<i32>,
    ) -> Result<SavedVersion, Failure> {
        let saved = self.client.saved_search(collection, name).await?;
        let found = saved.versions.into_iter().find(|v| version.is_none_or(|wanted| v.version == wanted));
        found.ok_or_else(|| {
            let text = format!("{name} has no version {}", version.unwrap_or_default());
            Failure { text, code: exit::FAILED }
        })
    }

    async fn ask_saved(&self, args: ValuesArgs, version: Option<i32>) -> Done {
        let values = pairs(&args.values)?;
        let answer = self.client.ask_saved(&args.collection, &args.name, version, &values).await?;
        self.show(&answer, |s| {
            let hits =
                (!s.hits.is_empty()).then(|| show::hits(&s.hits, args.fields.as_deref(), &[]).to_string());
            hits.into_iter().chain([show::via(s)]).collect::<Vec<_>>().join("\n")
        });
        if !self.json {
            answer.notices.iter().for_each(|n| eprintln!("notice: {}", n.text));
        }
        Ok(if answer.hits.is_empty() { exit::NOTHING_FOUND } else { 0 })
    }
}

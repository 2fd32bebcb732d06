//! `zesty status`, `zesty doctor`, `zesty console` and `zesty encoder`.

use crate::cli::EncoderCommand;
use crate::runner::{Done, Runner};
use crate::{exit, show};
use chrono::{TimeDelta, Utc};
use serde_json::json;
use std::time::{Duration, Instant};
use zesty_client::Error;
use zesty_client::wire::{Encoder, Finding, Weight};

impl Runner {
    pub async fn status(&self) -> Done {
        let c = &self.client;
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

    pub async fn doctor(&self) -> Done {
        let c = &self.client;
        let mut findings = Vec::new();
        let mut find = |about: &str, weight, found: String, remedy: Option<String>| {
            findings.push(Finding { about: about.into(), weight, found, remedy });
        };
        let mut fastest = Duration::MAX;
        for _ in 0..5 {
            let start = Instant::now();
            c.own_key().await?;
            fastest = fastest.min(start.elapsed());
        }
        let text = format!("{} answers in {}", c.url(), show::micros(fastest.as_secs_f64() * 1e6));
        find("connection", Weight::Good, text, None);
        let own = c.own_key().await?;
        let permit = &own.permit;
        let scopes: Vec<&str> = permit.scopes.iter().map(|s| s.word()).collect();
        find("key", Weight::Good, format!("{} may {}", permit.name, scopes.join(", ")), None);
        if let Some(end) = permit.expires_at.filter(|end| *end < Utc::now() + TimeDelta::days(7)) {
            let remedy = format!("zesty key end {} 90d", permit.name);
            find("key", Weight::Advice, format!("it ends {}", show::when(&end)), Some(remedy));
        }
        for seen in own.sees.iter().filter(|seen| seen.trouble.is_some()) {
            let remedy = "who manages keys has to make another key".to_owned();
            let trouble = seen.trouble.clone().unwrap_or_default();
            find(&format!("collection {}", seen.collection), Weight::Wrong, trouble, Some(remedy));
        }
        match c.service().await {
            Ok(s) if s.version != env!("CARGO_PKG_VERSION") => {
                let found =
                    format!("the service is {}, and this program {}", s.version, env!("CARGO_PKG_VERSION"));
                let remedy = "use programs of one version".to_owned();
                find("version", Weight::Advice, found, Some(remedy));
            }
            Ok(s) => find("version", Weight::Good, format!("service and program are {}", s.version), None),
            Err(_) => {}
        }
        match c.examination().await {
            Ok(examined) => findings.extend(examined.findings),
            Err(Error::Refused(p)) if p.status == 403 => {
                let found = "it may not look at the service itself: what follows would need a key that reads everything";
                find(
                    "key",
                    Weight::Advice,
                    found.into(),
                    Some("ask who manages keys to run zesty doctor".into()),
                );
            }
            Err(e) => return Err(e.into()),
        }
        let count = |weight| findings.iter().filter(|f| f.weight == weight).count();
        let (n_wrong, n_advice) = (count(Weight::Wrong), count(Weight::Advice));
        let line = |f: &Finding| {
            let mark = match f.weight {
                Weight::Good => "ok     ",
                Weight::Advice => "advice ",
                Weight::Wrong => "WRONG  ",
            };
            let remedy = f.remedy.as_ref().map(|r| format!("\n          -> {r}")).unwrap_or_default();
            format!("{mark}{}: {}{remedy}", f.about, f.found)
        };
        let sum = match (n_wrong, n_advice) {
            (0, 0) => "all is well".to_owned(),
            _ => format!("{n_wrong} wrong, {n_advice} could be better"),
        };
        self.show(&findings, |all| all.iter().map(line).chain([sum]).collect::<Vec<_>>().join("\n"));
        Ok(if n_wrong > 0 { exit::FAILED } else { 0 })
    }

    pub async fn console(&self) -> Done {
        let c = &self.client;
        let link = c.sign_in_link().await?;
        self.show(&json!({"link": link}), |_| {
            format!("{link}\nIt signs one browser in, once, within 15 minutes.")
        });
        Ok(0)
    }

    pub async fn encoder(&self, command: EncoderCommand) -> Done {
        let c = &self.client;
        let table = |all: &[Encoder]| {
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
}

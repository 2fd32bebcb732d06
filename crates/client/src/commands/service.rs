//! `zesty status`, `zesty console` and `zesty encoder`.

use crate::cli::EncoderCommand;
use crate::runner::{Done, Runner};
use crate::show;
use serde_json::json;
use zesty_client::wire::Encoder;

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

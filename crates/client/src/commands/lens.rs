//! `zesty lens`.

use crate::cli::{AskArgs, LensArgs};
use crate::report;
use crate::runner::{Done, Failure, Runner, failure, filter, settings};
use zesty_client::wire::{Keys, LensRequest, SearchRequest};

/// What is asked, as the service takes it.
pub fn lens_request(args: AskArgs) -> Result<LensRequest, Failure> {
    let query = args.query.as_deref().map(|query| {
        let wrong = || Failure::from(format!("--query {query}: write SET:POSITION, such as sampled:17"));
        let (set, position) = query.rsplit_once(':').ok_or_else(wrong)?;
        Ok::<_, Failure>((set.to_owned(), position.parse().map_err(|_| wrong())?))
    });
    let (query_set, position) = query.transpose()?.unzip();
    let search = SearchRequest {
        text: args.text,
        examples: args.example.map(Keys::One),
        k: args.k,
        filter: filter(&args.filter),
        index: args.index,
        settings: settings(args.beam, args.visit, args.rescore),
        column: args.column,
        ..SearchRequest::default()
    };
    Ok(LensRequest { search, query_set, position })
}

impl Runner {
    pub async fn lens(&self, args: LensArgs) -> Done {
        if !args.ask.asks() {
            return Err("say what asks: a text, --example RECORD, or --query SET:POSITION".to_owned().into());
        }
        let text = args.ask.filter.clone();
        let request = lens_request(args.ask)?;
        let seen = self.client.lens(&args.collection, &request).await;
        let seen = seen.map_err(|e| failure(&e, text.as_deref()))?;
        self.show(&seen, report::lens);
        Ok(0)
    }
}

//! `zesty lens`.

use crate::cli::LensArgs;
use crate::report;
use crate::runner::{Done, Failure, Runner, failure, filter, settings};
use zesty_client::wire::{Keys, LensRequest, SearchRequest};

impl Runner {
    pub async fn lens(&self, args: LensArgs) -> Done {
        let text = args.filter.clone();
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
        let request = LensRequest { search, query_set, position };
        let seen = self.client.lens(&args.collection, &request).await;
        let seen = seen.map_err(|e| failure(&e, text.as_deref()))?;
        self.show(&seen, report::lens);
        Ok(0)
    }
}

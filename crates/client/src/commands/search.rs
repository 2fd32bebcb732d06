//! `zesty search`.

use crate::cli::SearchArgs;
use crate::runner::{Done, Runner, failure, filter, print, read_text, settings};
use crate::{exit, show};
use serde_json::{Map, Value, json};
use std::path::Path;
use zesty_client::wire::{AtMost, Keys, SearchAnswer, SearchRequest};

/// What all options but the query itself say of a search.
fn search_options(a: &SearchArgs) -> SearchRequest {
    let list = |v: &Vec<String>| (!v.is_empty()).then(|| v.clone());
    SearchRequest {
        k: a.k,
        counterexamples: list(&a.counterexample).map(Keys::Many),
        include_self: a.include_self,
        filter: filter(&a.filter),
        skip: a.skip.unwrap_or(0),
        leave_out: list(&a.leave_out),
        score_at_least: a.score_at_least,
        distance_at_most: a.distance_at_most,
        at_most: a.at_most.clone().map(|(field, hits)| AtMost { field, hits }),
        time_limit_ms: a.time_limit,
        sort: a.sort.clone(),
        follow: list(&a.follow),
        vectors: list(&a.vectors),
        explain: a.explain,
        exact: a.exact,
        fields: a.fields.clone(),
        column: a.column.clone(),
        encoder: a.encoder.clone(),
        index: a.index.clone(),
        settings: settings(a.beam, a.visit, a.rescore),
        recall: a.recall,
        ..SearchRequest::default()
    }
}

impl Runner {
    pub async fn search(&self, a: SearchArgs) -> Done {
        if let Some(file) = &a.batch {
            return self.search_batch(&a, file).await;
        }
        let mut request = search_options(&a);
        request.text = a.text.clone();
        request.examples = match a.example.as_slice() {
            [] => None,
            [one] => Some(Keys::One(one.clone())),
            many => Some(Keys::Many(many.to_vec())),
        };
        if let Some(vector) = &a.vector {
            let text = match vector.strip_prefix('@') {
                Some(file) => read_text(Path::new(file))?,
                None => vector.clone(),
            };
            let vector = serde_json::from_str(&text)
                .map_err(|e| format!("--vector is not a JSON array of numbers: {e}"))?;
            request.vector = Some(vector);
        }
        let chosen = a.fields.clone();
        let ask = async |request: &SearchRequest| {
            let answer = self.client.search(&a.collection, request).await;
            answer.map_err(|e| failure(&e, a.filter.as_deref()))
        };
        let answer = ask(&request).await?;
        if a.compare {
            (request.index, request.settings, request.exact) = (None, None, true);
            request.recall = None;
            let exact = ask(&request).await?;
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
                parts.push(match &s.explain {
                    Some(explained) => explained.text.trim_end().to_owned(),
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
        let options = match json!(search_options(a)) {
            Value::Object(options) => options,
            _ => Map::new(),
        };
        let mut searches = Vec::new();
        for (i, line) in text.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()) {
            let mut input = options.clone();
            let own = if line.trim_start().starts_with('{') {
                serde_json::from_str(line).map_err(|e| format!("{}, line {}: {e}", file.display(), i + 1))?
            } else {
                Map::from_iter([("text".to_owned(), json!(line.trim()))])
            };
            input.extend(own);
            searches.push((line.trim().to_owned(), Value::Object(input)));
        }
        let mut answers: Vec<SearchAnswer> = Vec::with_capacity(searches.len());
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
        let named: Vec<(Option<&str>, &SearchAnswer)> =
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
}

/// Both answers, and what the approximate one missed.
fn compared(answer: &SearchAnswer, exact: &SearchAnswer, chosen: Option<&[String]>) -> String {
    let missed: Vec<String> = exact
        .hits
        .iter()
        .filter(|e| !answer.hits.iter().any(|h| h.key == e.key))
        .map(|h| h.key.clone())
        .collect();
    let n = exact.hits.len();
    let found = n - missed.len();
    let pace = exact.timing.search_us / answer.timing.search_us.max(1.0);
    format!(
        "exact answer (○ marks what the approximate one missed)\n{}\n{}\n{}\nfound {found} of {n}; search {} against {}, {pace:.0} times faster",
        show::hits(&exact.hits, chosen, &missed),
        show::via(exact),
        show::via(answer),
        show::micros(answer.timing.search_us),
        show::micros(exact.timing.search_us),
    )
}

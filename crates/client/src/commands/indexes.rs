//! `zesty index`, `zesty recipe` and `zesty serving`.

use crate::cli::{IndexCommand, RecipeCommand, ServingArgs};
use crate::runner::{Done, Failure, Runner, failure, log, settings};
use crate::show;
use zesty_client::Error;
use zesty_client::wire::{NewIndex, RecipeRequest, RecipeText, ServingChoice};

impl Runner {
    pub async fn index(&self, command: IndexCommand) -> Done {
        let c = &self.client;
        match command {
            IndexCommand::Build { collection, recipe, name, column, seed, threads, background } => {
                let request = NewIndex { name, column, recipe: recipe_of(&recipe)?, seed, threads };
                let job = c.build_index(&collection, &request).await;
                let job = job.map_err(|e| recipe_failure(&e, &recipe))?;
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
            IndexCommand::Unload { collection, index } => {
                let after = self.client.unload_index(&collection, &index).await?;
                self.show(&after, |_| format!("{index} is out of memory; its file stays"));
                Ok(0)
            }
            IndexCommand::Load { collection, index } => {
                let after = self.client.load_index(&collection, &index).await?;
                self.show(&after, |a| match a.state.as_str() {
                    "ready" => format!("{index} is in memory: {}", show::bytes(a.n_bytes_memory as u64)),
                    state => format!("{index} is {state}"),
                });
                Ok(0)
            }
            IndexCommand::Drop { collection, index } => {
                c.drop_index(&collection, &index).await?;
                self.said(&format!("dropped {index}"))
            }
        }
    }

    pub async fn recipe(&self, command: RecipeCommand) -> Done {
        let RecipeCommand::Explain { recipe, collection, column, rows, dimensions, metric } = command;
        let request =
            RecipeRequest { recipe: recipe_of(&recipe)?, collection, column, rows, dimensions, metric };
        let explained = self.client.explain_recipe(&request).await;
        let explained = explained.map_err(|e| recipe_failure(&e, &recipe))?;
        self.show(&explained, show::explained);
        Ok(0)
    }

    pub async fn serving(&self, args: ServingArgs) -> Done {
        let column = match args.column {
            Some(column) => column,
            None => self.default_column(&args.collection).await?,
        };
        let settings = settings(args.beam, args.visit, args.rescore).unwrap_or_default();
        let recall = args.recall;
        let choice = args.index.map(|index| ServingChoice { index, settings, recall });
        let after = self.client.set_serving(&args.collection, &column, choice.as_ref()).await?;
        self.show(&after, |a| show::collections(std::slice::from_ref(a)).to_string());
        Ok(0)
    }
}

/// A recipe on the command line: one line of text, or the JSON form.
fn recipe_of(text: &str) -> Result<RecipeText, Failure> {
    if !text.trim_start().starts_with('{') {
        return Ok(RecipeText::Text(text.to_owned()));
    }
    let form = serde_json::from_str(text);
    form.map(RecipeText::Form).map_err(|e| Failure::from(format!("the recipe is not JSON: {e}")))
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

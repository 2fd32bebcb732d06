//! From what was typed to the command that does it.

use crate::cli::{Cli, Command};
use crate::commands::connect::connect;
use crate::commands::inspect::{Wish, inspect};
use crate::exit;
use crate::runner::{Done, Failure, Runner};
use zesty_client::connection::Connection;

pub async fn run(cli: Cli) -> Done {
    match &cli.command {
        Command::Connect => return connect(cli.url, cli.key, cli.ca).await,
        // Looking into a file needs no service.
        Command::Inspect { file, vectors, becoming, encoder, write } => {
            let wish = Wish { becoming, encoder: encoder.as_deref() };
            return inspect(file, vectors.as_deref(), wish, write.as_deref(), cli.json);
        }
        _ => {}
    }
    let connection = Connection::find(cli.url, cli.key, cli.ca)
        .map_err(|text| Failure { text, code: exit::NO_SERVICE })?;
    let runner = Runner { client: connection.client()?, json: cli.json };
    match cli.command {
        Command::Connect | Command::Inspect { .. } | Command::Completions { .. } => Ok(0),
        Command::Status => runner.status().await,
        Command::Doctor => runner.doctor().await,
        Command::Console => runner.console().await,
        Command::Collection(command) => runner.collection(command).await,
        Command::Load(args) => runner.load(args).await,
        Command::Export(args) => runner.export(args).await,
        Command::Column(command) => runner.column(command).await,
        Command::Fields { collection, filter, values } => runner.fields(&collection, filter, values).await,
        Command::Record(command) => runner.record(command).await,
        Command::Index(command) => runner.index(command).await,
        Command::Search(args) => runner.search(*args).await,
        Command::Saved(command) => runner.saved(command).await,
        Command::Recipe(command) => runner.recipe(command).await,
        Command::Queries(command) => runner.queries(command).await,
        Command::Sweep(command) => runner.sweep(command).await,
        Command::Target(command) => runner.target(command).await,
        Command::Advise(command) => runner.advise(command).await,
        Command::Compare(command) => runner.compare(command).await,
        Command::Lens(args) => runner.lens(args).await,
        Command::Map(args) => runner.map(args).await,
        Command::Watch(command) => runner.watch_searches(command).await,
        Command::Serving(args) => runner.serving(args).await,
        Command::Job(command) => runner.job(command).await,
        Command::Encoder(command) => runner.encoder(command).await,
        Command::Key(command) => runner.key(command).await,
    }
}

//! `zesty-service`: the long-running service.

use clap::{Parser, Subcommand};
use std::io::Write as _;
use std::path::PathBuf;
use std::process::ExitCode;
use tracing_subscriber::EnvFilter;
use zesty_service::settings::{File, LogFormat, Settings};
use zesty_service::{Service, check};

/// A load passes millions of small vectors from thread to thread; the system's allocator keeps a part of each
/// thread's share for good, a fifth of the collection in the end.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

#[derive(Parser)]
#[command(
    version,
    about = "The Zesty Lantern service: vector collections, indexes, filtered similarity search",
    after_help = "A setting is taken from its flag, else from the environment, else from the file."
)]
struct Arguments {
    /// A TOML file with any of these settings, such as `memory_mb = 4000`
    #[arg(long, env = "ZESTY_SETTINGS", value_name = "FILE")]
    settings: Option<PathBuf>,
    #[command(flatten)]
    flags: Settings,
    /// Check the settings, the data folder and the database, and end
    #[arg(long)]
    check: bool,
    #[command(subcommand)]
    command: Option<Command>,
}

#[derive(Subcommand)]
enum Command {
    /// Make a key in the database and print it, when the last one is lost
    AddKey { name: String },
    /// Print the OpenAPI document of the HTTP interface; needs no database
    Openapi,
}

/// Threads that requests are read and answered on, at the least: a short search runs there, and may wait for the disk.
const LEAST_THREADS: usize = 2;

fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

fn main() -> ExitCode {
    let threads = cores().max(LEAST_THREADS);
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(threads).enable_all().build();
    match runtime {
        Ok(runtime) => runtime.block_on(start()),
        Err(error) => {
            eprintln!("zesty-service: no threads can be started: {error}");
            ExitCode::FAILURE
        }
    }
}

async fn start() -> ExitCode {
    let a = Arguments::parse();
    match run(a).await {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("zesty-service: {error}");
            ExitCode::FAILURE
        }
    }
}

fn write_log(format: LogFormat) {
    let filter = EnvFilter::try_from_env("ZESTY_LOG")
        .unwrap_or_else(|_| EnvFilter::new("info,sea_orm_migration=warn"));
    let log =
        tracing_subscriber::fmt().with_writer(std::io::stderr).with_env_filter(filter).with_target(false);
    match format {
        LogFormat::Text => log.init(),
        LogFormat::Json => log.json().init(),
    }
}

async fn run(a: Arguments) -> Result<(), Box<dyn std::error::Error>> {
    if let Some(Command::Openapi) = a.command {
        // A reader that stops early is told of by an error, which println! would make a panic.
        writeln!(std::io::stdout(), "{}", serde_json::to_string_pretty(&zesty_service::openapi())?)?;
        return Ok(());
    }
    let file = a.settings.as_deref().map(File::read).transpose()?.unwrap_or_default();
    write_log(a.flags.log_format(&file));
    if let Some(Command::AddKey { name }) = a.command {
        println!("{}", zesty_service::add_key(&a.flags.database(&file)?, &name).await?);
        return Ok(());
    }
    let config = a.flags.config(&file, cores())?;
    if a.check {
        let found = check(&config).await;
        let mut out = std::io::stdout();
        for (what, said) in &found {
            let (mark, said) = match said {
                Ok(said) => ("ok   ", said),
                Err(said) => ("WRONG", said),
            };
            writeln!(out, "{mark}  {what}: {said}")?;
        }
        return match found.iter().filter(|(_, said)| said.is_err()).count() {
            0 => Ok(()),
            n => Err(format!("{n} of {} checks failed", found.len()).into()),
        };
    }
    let service = Service::start(config).await?;
    println!("listening on {}", service.url());
    service.serve(stopped()).await?;
    tracing::info!("stopped");
    Ok(())
}

/// Ctrl-C, or the polite signal of a process manager.
async fn stopped() {
    let mut term = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate())
        .expect("signals can be listened to");
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        _ = term.recv() => {}
    }
}

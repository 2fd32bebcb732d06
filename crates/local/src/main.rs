//! `zesty-local`: the whole example on one machine. `bin/demo` builds and calls it.

use clap::Parser;
use std::process::ExitCode;
use zesty_local::demo::{Arguments, run};

#[tokio::main]
async fn main() -> ExitCode {
    match run(Arguments::parse()).await {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("\nbin/demo: {error}");
            ExitCode::FAILURE
        }
    }
}

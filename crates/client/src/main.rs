//! `zesty`: the command line of Zesty Lantern.

mod cli;
mod commands;
mod dispatch;
mod drawing;
mod exit;
mod report;
mod runner;
mod show;
mod side_by_side;

use clap::{CommandFactory, Parser};
use cli::{Cli, Command};
use std::process::ExitCode;

#[tokio::main]
async fn main() -> ExitCode {
    let cli = Cli::parse();
    if let Command::Completions { shell } = cli.command {
        clap_complete::generate(shell, &mut Cli::command(), "zesty", &mut std::io::stdout());
        return ExitCode::SUCCESS;
    }
    match dispatch::run(cli).await {
        Ok(code) => ExitCode::from(code),
        Err(failure) => {
            eprintln!("zesty: {}", failure.text);
            ExitCode::from(failure.code)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_tree_is_sound() {
        Cli::command().debug_assert();
    }

    #[test]
    fn every_command_has_an_example() {
        fn visit(command: &clap::Command, path: &str) {
            for sub in command.get_subcommands().filter(|c| c.get_name() != "help") {
                let path = format!("{path} {}", sub.get_name());
                if sub.has_subcommands() {
                    visit(sub, &path);
                } else {
                    let help = sub.get_after_help().map(ToString::to_string).unwrap_or_default();
                    assert!(help.contains(&format!("  {}", path.trim())), "{path}: {help}");
                }
            }
        }
        visit(&Cli::command(), "zesty");
    }
}

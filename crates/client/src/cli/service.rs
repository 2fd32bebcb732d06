//! Options of `zesty job` and `zesty encoder`.

use clap::Subcommand;

#[derive(Subcommand)]
pub enum JobCommand {
    /// List jobs, newest first
    #[command(after_help = "Example:\n  zesty job list")]
    List,
    /// Show a job with its log
    #[command(after_help = "Example:\n  zesty job show 7")]
    Show { job: i64 },
    /// Watch a job until it ends
    #[command(after_help = "Example:\n  zesty job watch 7")]
    Watch { job: i64 },
    /// Cancel a job
    #[command(after_help = "Example:\n  zesty job cancel 7")]
    Cancel { job: i64 },
}

#[derive(Subcommand)]
pub enum EncoderCommand {
    /// List encoders
    #[command(after_help = "Example:\n  zesty encoder list")]
    List,
    /// Add an encoder, or change its address
    #[command(
        after_help = "Example:\n  zesty encoder set lampwright-large --at http://127.0.0.1:7412 --model lampwright-large"
    )]
    Set {
        encoder: String,
        /// Address of a server that speaks the Open Inference Protocol v2
        #[arg(long, value_name = "URL")]
        at: String,
        /// The model's name there
        #[arg(long)]
        model: String,
    },
    /// Remove an encoder that no column uses
    #[command(after_help = "Example:\n  zesty encoder remove lampwright-small")]
    Remove { encoder: String },
}

//! `zesty job`.

use crate::cli::JobCommand;
use crate::runner::{Done, Runner, log};
use crate::show;

impl Runner {
    pub async fn job(&self, command: JobCommand) -> Done {
        let c = &self.client;
        match command {
            JobCommand::List => {
                let all = c.jobs().await?;
                self.show_list(&all, "No jobs yet.", |a| show::jobs(a).to_string())
            }
            JobCommand::Show { job } => {
                self.show(&c.job(job).await?, |j| {
                    format!("{}\n{}", show::jobs(std::slice::from_ref(j)), log(j))
                });
                Ok(0)
            }
            JobCommand::Watch { job } => {
                self.show(&self.watch(job).await?, log);
                Ok(0)
            }
            JobCommand::Cancel { job } => {
                self.show(&c.cancel_job(job).await?, |j| {
                    format!("asked job {} to stop; it is {}", j.id, j.state)
                });
                Ok(0)
            }
        }
    }
}

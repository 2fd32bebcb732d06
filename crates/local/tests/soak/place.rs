//! The service and its database as processes that can be stopped and killed.

use std::io::{self, BufRead};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use zesty_local::mariadb::{MariaDb, free_port};
use zesty_testing::program;

pub struct Place {
    folder: PathBuf,
    port: u16,
    database: Option<MariaDb>,
    url: String,
    service: Option<Child>,
}

impl Place {
    pub fn new(folder: &Path) -> io::Result<Place> {
        let database = MariaDb::start(&folder.join("mariadb"), None, false)?;
        let url = database.url("zesty");
        let mut place =
            Place { folder: folder.into(), port: free_port()?, database: Some(database), url, service: None };
        place.start_service()?;
        Ok(place)
    }

    pub fn url(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }

    pub fn first_key(&self) -> io::Result<String> {
        std::fs::read_to_string(self.folder.join("service/first-key"))
    }

    /// Starts the service and waits until it listens with all its collections.
    pub fn start_service(&mut self) -> io::Result<()> {
        let log = std::fs::File::options().create(true).append(true).open(self.folder.join("service.log"))?;
        let mut child = Command::new(program("zesty-service"))
            .args(["--listen", &format!("127.0.0.1:{}", self.port), "--data"])
            .arg(self.folder.join("service"))
            .env("ZESTY_DATABASE", &self.url)
            .stdout(Stdio::piped())
            .stderr(log)
            .spawn()?;
        let mut line = String::new();
        if let Some(out) = child.stdout.as_mut() {
            io::BufReader::new(out).read_line(&mut line)?;
        }
        assert!(
            line.starts_with("listening on "),
            "the service does not start: see {}",
            self.folder.display()
        );
        self.service = Some(child);
        Ok(())
    }

    /// SIGKILL: nothing is written any more.
    pub fn kill_service(&mut self) -> io::Result<()> {
        if let Some(mut child) = self.service.take() {
            child.kill()?;
            child.wait()?;
        }
        Ok(())
    }

    pub fn stop_database(&mut self) {
        if let Some(mut database) = self.database.take() {
            database.stop();
        }
    }

    pub fn start_database(&mut self) -> io::Result<()> {
        let port = self.url.rsplit_once(':').and_then(|(_, rest)| rest.split('/').next()?.parse().ok());
        self.database = Some(MariaDb::start(&self.folder.join("mariadb"), port, false)?);
        Ok(())
    }

    /// Bytes of memory that the service holds.
    pub fn resident(&self) -> Option<u64> {
        let pid = self.service.as_ref()?.id();
        let text = std::fs::read_to_string(format!("/proc/{pid}/statm")).ok()?;
        Some(text.split(' ').nth(1)?.parse::<u64>().ok()? * 4096)
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let _ = self.kill_service();
    }
}

//! A MariaDB of our own on loopback: its own data directory, a free port, one user with a password.

use crate::child::{Guarded, wait_until};
use std::io::{self, Read};
use std::net::{Ipv4Addr, TcpListener, TcpStream};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

/// How far MariaDB stands back behind the service.
const NICE: i32 = 10;

pub struct MariaDb {
    child: Guarded,
    pub port: u16,
    password: String,
}

pub const USER: &str = "zesty";

fn find(names: &[&str]) -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let mut folders: Vec<PathBuf> = std::env::split_paths(&path).collect();
    // Debian keeps the server where only root's PATH looks.
    folders.push("/usr/sbin".into());
    names.iter().find_map(|n| folders.iter().map(|f| f.join(n)).find(|p| p.is_file()))
}

/// A port that was free a moment ago.
pub fn free_port() -> io::Result<u16> {
    Ok(TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?.local_addr()?.port())
}

fn is_root() -> bool {
    // The owner of our own entry in /proc is who we are.
    use std::os::unix::fs::MetadataExt;
    std::fs::metadata("/proc/self").is_ok_and(|m| m.uid() == 0)
}

impl MariaDb {
    /// Starts MariaDB on `folder`, which is made at the first start, and on a free port unless one is
    /// given. `remove` deletes the folder
    /// after the server ended: for tests.
    pub fn start(folder: &Path, port: Option<u16>, remove: bool) -> io::Result<MariaDb> {
        let server = find(&["mariadbd"]).ok_or_else(|| {
            io::Error::other("MariaDB is not installed: run `apt-get install mariadb-server` (bin/demo does, given the right)")
        })?;
        std::fs::create_dir_all(folder)?;
        let folder = folder.canonicalize()?;
        let (data, log) = (folder.join("data"), folder.join("mariadb.log"));
        // A server that starts deletes every temporary table in its folder for them, also those of other servers.
        let temporary = folder.join("tmp");
        std::fs::create_dir_all(&temporary)?;
        let temporary = format!("--tmpdir={}", temporary.display());
        if !data.join("mysql").is_dir() {
            install(&data, &temporary, &log)?;
        }
        let password = password(&folder.join("password"))?;
        let port = match port {
            Some(port) => port,
            None => free_port()?,
        };
        let init = folder.join("init.sql");
        write_private(&init, &init_sql(&password))?;
        let mut arguments: Vec<String> = vec!["--no-defaults".into()];
        if is_root() {
            arguments.push("--user=root".into());
        }
        arguments.extend([
            temporary,
            format!("--datadir={}", data.display()),
            format!("--socket={}", folder.join("socket").display()),
            format!("--pid-file={}", folder.join("pid").display()),
            format!("--init-file={}", init.display()),
            format!("--port={port}"),
            "--bind-address=127.0.0.1".into(),
            "--skip-name-resolve".into(),
            "--character-set-server=utf8mb4".into(),
            "--collation-server=utf8mb4_nopad_bin".into(),
            "--max-allowed-packet=64M".into(),
            "--innodb-flush-log-at-trx-commit=1".into(),
            format!("--innodb-buffer-pool-size={}", if remove { "64M" } else { "512M" }),
            format!("--innodb-log-file-size={}", if remove { "48M" } else { "256M" }),
        ]);
        let removed = remove.then_some(folder.as_path());
        // It shares the machine with searches, which are answered without it.
        let politely = ["-n".to_owned(), NICE.to_string(), server.display().to_string()];
        let arguments: Vec<_> = politely.into_iter().chain(arguments).collect();
        let mut child = Guarded::start("MariaDB", Path::new("nice"), &arguments, &[], &log, removed)?;
        wait_until(&mut child, &log, Duration::from_secs(60), || greets(port))?;
        Ok(MariaDb { child, port, password })
    }

    /// A database of that name; it must be `zesty` or begin with `zesty_`.
    pub fn url(&self, database: &str) -> String {
        format!("mysql://{USER}:{}@127.0.0.1:{}/{database}?ssl-mode=disabled", self.password, self.port)
    }

    /// Runs statements as our user.
    pub fn run(&self, sql: &str) -> io::Result<()> {
        let client =
            find(&["mariadb", "mysql"]).ok_or_else(|| io::Error::other("MariaDB's client is missing"))?;
        let output = Command::new(client)
            .args(["--no-defaults", "--host=127.0.0.1", "--user", USER, "--execute", sql])
            .arg(format!("--port={}", self.port))
            .env("MYSQL_PWD", &self.password)
            .output()?;
        if output.status.success() {
            return Ok(());
        }
        Err(io::Error::other(String::from_utf8_lossy(&output.stderr).into_owned()))
    }

    pub fn stop(&mut self) {
        self.child.stop();
    }

    pub fn is_running(&mut self) -> bool {
        self.child.is_running()
    }
}

/// A server that accepts connections says who it is first.
fn greets(port: u16) -> bool {
    let Ok(mut stream) = TcpStream::connect((Ipv4Addr::LOCALHOST, port)) else { return false };
    let _ = stream.set_read_timeout(Some(Duration::from_secs(1)));
    let mut greeting = [0u8; 5];
    // The packet's header, then protocol version 10.
    stream.read_exact(&mut greeting).is_ok() && greeting[4] == 10
}

fn install(data: &Path, temporary: &str, log: &Path) -> io::Result<()> {
    let program =
        find(&["mariadb-install-db"]).ok_or_else(|| io::Error::other("mariadb-install-db is missing"))?;
    let mut command = Command::new(program);
    command.arg("--no-defaults");
    if is_root() {
        command.arg("--user=root");
    }
    let output = command
        .arg(format!("--datadir={}", data.display()))
        .args([temporary, "--auth-root-authentication-method=normal", "--skip-test-db"])
        .output()?;
    std::fs::write(log, [output.stdout, output.stderr].concat())?;
    if !output.status.success() {
        let text = crate::child::tail(log);
        // Half a data directory would be taken for a whole one next time.
        let _ = std::fs::remove_dir_all(data);
        return Err(io::Error::other(format!("MariaDB's data directory could not be made:\n{text}")));
    }
    Ok(())
}

fn write_private(path: &Path, text: &str) -> io::Result<()> {
    use std::io::Write;
    let mut file =
        std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?;
    file.write_all(text.as_bytes())
}

fn password(path: &Path) -> io::Result<String> {
    match std::fs::read_to_string(path) {
        Ok(text) => Ok(text),
        Err(e) if e.kind() == io::ErrorKind::NotFound => {
            let password: String = (0..16).map(|_| format!("{:02x}", rand::random::<u8>())).collect();
            write_private(path, &password)?;
            Ok(password)
        }
        Err(e) => Err(e),
    }
}

/// Run at every start. Root loses its passwordless way in; our user may use our databases only.
fn init_sql(password: &str) -> String {
    let mut sql = format!("ALTER USER 'root'@'localhost' IDENTIFIED BY '{password}';\n");
    for host in ["127.0.0.1", "localhost"] {
        sql += &format!(
            "CREATE USER IF NOT EXISTS '{USER}'@'{host}';\nALTER USER '{USER}'@'{host}' IDENTIFIED BY '{password}';\n\
             GRANT ALL ON `zesty`.* TO '{USER}'@'{host}';\nGRANT ALL ON `zesty\\_%`.* TO '{USER}'@'{host}';\n"
        );
    }
    // The init file takes one statement a line.
    sql + "CREATE DATABASE IF NOT EXISTS zesty;\n"
}

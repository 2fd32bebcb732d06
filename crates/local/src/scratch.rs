//! Throw-away databases for tests: one MariaDB for each test program, one database for each test.

use crate::mariadb::MariaDb;
use std::io;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};

static SERVER: OnceLock<MariaDb> = OnceLock::new();

/// Runs statements in one of the databases.
pub fn run(url: &str, sql: &str) -> io::Result<()> {
    let name = url.rsplit('/').next().and_then(|n| n.split('?').next()).unwrap_or_default();
    let server = SERVER.get().ok_or_else(|| io::Error::other("no database was made here"))?;
    server.run(&format!("USE {name}; {sql}"))
}

/// The URL of a new, empty database. The server ends, and its folder goes, when the program does.
pub fn database() -> String {
    static NEXT: AtomicU32 = AtomicU32::new(1);
    let server = SERVER.get_or_init(|| {
        let folder =
            tempfile::Builder::new().prefix("zesty-mariadb-").tempdir().expect("a folder for MariaDB");
        MariaDb::start(&folder.keep(), None, true).expect("MariaDB starts")
    });
    let name = format!("zesty_{}", NEXT.fetch_add(1, Ordering::Relaxed));
    server.run(&format!("CREATE DATABASE {name}")).expect("a database can be made");
    server.url(&name)
}

//! The whole example, as `bin/demo --check` runs it, and that nothing of it is left running.

// Tests are deep trees of futures.
#![recursion_limit = "256"]

use std::process::Command;

#[test]
fn the_demo_checks_itself_and_leaves_nothing_running() {
    let folder = tempfile::tempdir().unwrap();
    let port = zesty_local::mariadb::free_port().unwrap().to_string();
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");
    let output = Command::new(zesty_testing::program("zesty-local"))
        .args(["--check", "--port", &port, "--demo", demo, "--data"])
        .arg(folder.path())
        .output()
        .unwrap();
    let said =
        String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{said}");
    assert!(said.contains("The whole example works"), "{said}");
    assert!(!folder.path().join("mariadb/pid").exists(), "MariaDB took its pid file with it");
    assert!(std::net::TcpStream::connect(("127.0.0.1", port.parse::<u16>().unwrap())).is_err());
}

//! Children that end with their parent, however the parent ends.
//!
//! Each runs under a small shell that waits on a pipe from us: when the pipe closes, be it by
//! `stop`, by a drop or because this process was killed, the shell ends the child (SIGTERM) and
//! waits for it. Children have a process group of their own, so that Ctrl-C in a terminal reaches
//! only us, and we stop them in order.

use std::fs::File;
use std::io;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const GUARD: &str = r#"
trap '' INT
# A background job's standard input is /dev/null, so the pipe is kept under another number.
exec 3<&0
"$@" </dev/null 3<&- &
child=$!
( cat >/dev/null <&3; kill -TERM $child 2>/dev/null ) &
exec 3<&-
wait $child
code=$?
[ -n "$ZESTY_REMOVE" ] && rm -rf "$ZESTY_REMOVE"
exit $code
"#;

/// A running program.
pub struct Guarded {
    name: String,
    guard: Child,
}

impl Guarded {
    /// Starts a program; its output goes to `log`. `remove` is deleted after it ended.
    pub fn start(
        name: &str,
        program: &Path,
        arguments: &[String],
        environment: &[(&str, String)],
        log: &Path,
        remove: Option<&Path>,
    ) -> io::Result<Guarded> {
        let out = File::options().create(true).append(true).open(log)?;
        let mut command = Command::new("sh");
        command
            .args(["-c", GUARD, name])
            .arg(program)
            .args(arguments)
            .envs(environment.iter().map(|(k, v)| (k, v)))
            .stdin(Stdio::piped())
            .stdout(out.try_clone()?)
            .stderr(out)
            .process_group(0);
        if let Some(remove) = remove {
            command.env("ZESTY_REMOVE", remove);
        }
        let guard =
            command.spawn().map_err(|e| io::Error::new(e.kind(), format!("cannot start {name}: {e}")))?;
        Ok(Guarded { name: name.into(), guard })
    }

    /// Whether it still runs.
    pub fn is_running(&mut self) -> bool {
        matches!(self.guard.try_wait(), Ok(None))
    }

    /// Ends it politely and waits until it is gone.
    pub fn stop(&mut self) {
        drop(self.guard.stdin.take());
        if self.guard.wait().is_err() {
            eprintln!("{} could not be waited for", self.name);
        }
    }
}

impl Drop for Guarded {
    fn drop(&mut self) {
        self.stop();
    }
}

/// Tries `ready` until it holds. Gives up when the child ends or after `limit`.
pub fn wait_until(
    child: &mut Guarded,
    log: &Path,
    limit: Duration,
    mut ready: impl FnMut() -> bool,
) -> io::Result<()> {
    let start = Instant::now();
    loop {
        if ready() {
            return Ok(());
        }
        let ended = !child.is_running();
        if ended || start.elapsed() > limit {
            let what = if ended { "ended at once" } else { "did not get ready in time" };
            return Err(io::Error::other(format!(
                "{} {what}; the end of {}:\n{}",
                child.name,
                log.display(),
                tail(log)
            )));
        }
        std::thread::sleep(Duration::from_millis(30));
    }
}

/// The last lines of a log.
pub fn tail(log: &Path) -> String {
    let text = std::fs::read(log).map(|b| String::from_utf8_lossy(&b).into_owned()).unwrap_or_default();
    let lines: Vec<&str> = text.lines().collect();
    lines[lines.len().saturating_sub(12)..].join("\n")
}

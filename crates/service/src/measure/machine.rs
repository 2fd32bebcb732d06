//! The machine that something was measured on.

use zesty_wire as wire;

pub fn machine() -> wire::Machine {
    let known = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
    let model = known.lines().find_map(|line| line.strip_prefix("model name")?.split_once(": "));
    wire::Machine {
        cpu: model.map_or_else(|| std::env::consts::ARCH.to_owned(), |(_, name)| name.trim().to_owned()),
        cores: std::thread::available_parallelism().map_or(1, usize::from),
        version: env!("CARGO_PKG_VERSION").into(),
        build: if cfg!(debug_assertions) { "debug" } else { "release" }.into(),
    }
}

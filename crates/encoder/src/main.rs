//! `zesty-encoder`: learns the stand-in encoders (or takes them from the cache) and serves them.

use clap::Parser;
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Instant;

#[derive(Parser)]
#[command(version, about = "A stand-in text encoder, served over the Open Inference Protocol v2")]
struct Arguments {
    /// JSON Lines file (.gz is unpacked) whose "note" fields are learned from
    #[arg(long, default_value = "demo/logbook.jsonl.gz")]
    corpus: PathBuf,
    /// Folder that keeps learned models for the next start
    #[arg(long)]
    cache: Option<PathBuf>,
    #[arg(long, default_value = "127.0.0.1:7412")]
    listen: SocketAddr,
}

#[tokio::main]
async fn main() -> io::Result<()> {
    tracing_subscriber::fmt().with_writer(io::stderr).with_target(false).init();
    let a = Arguments::parse();
    let listener = tokio::net::TcpListener::bind(a.listen).await.map_err(|e| {
        io::Error::new(e.kind(), format!("cannot listen on {}: {e}; give another --listen", a.listen))
    })?;
    let start = Instant::now();
    let models = tokio::task::block_in_place(|| zesty_encoder::models(&a.corpus, a.cache.as_deref()))?;
    let names: Vec<String> = models.iter().map(|m| format!("{} ({})", m.name, m.dimensions)).collect();
    tracing::info!("models ready after {:.1?}: {}", start.elapsed(), names.join(", "));
    println!("listening on http://{}", listener.local_addr()?);
    axum::serve(listener, zesty_encoder::server::router(models)).await
}

//! The Zesty Lantern service: routes, keys, live collections, jobs, and the console's files.

mod auth;
mod building;
mod edge;
mod edits;
mod encoders;
mod hub;
mod jobs;
mod live;
mod loads;
mod problem;
mod routes;
mod serving;
mod uploads;

use crate::edge::random_hex;
use crate::hub::Hub;
use axum::routing::get;
use axum::{Router, middleware};
use bytes::Bytes;
use routes::{
    collections, columns, console, files, indexes, jobs as job_routes, loads as load_routes, records, search,
    sweeps, system,
};
pub use serving::Pauses;
use std::fs::File;
use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::net::TcpListener;
use tower_http::compression::CompressionLayer;
use tower_http::timeout::RequestBodyTimeoutLayer;
use utoipa::openapi::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use zesty_catalog::Catalog;
pub use zesty_catalog::STATEMENT as DATABASE_TIMEOUT;
pub use zesty_files::Limits;

pub struct Config {
    pub database_url: String,
    /// Index files, this node's name, the first key
    pub data: PathBuf,
    pub listen: SocketAddr,
    /// Threads that a build may take
    pub threads: usize,
    /// Bytes that collections and indexes may take together.
    pub memory_budget: Option<u64>,
    /// What files may ask for
    pub limits: Limits,
    /// How long a statement of the database may take
    pub database_timeout: Duration,
    pub pauses: Pauses,
}

/// Why the service could not start.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    #[error("cannot listen on {0}: {1}; stop what uses it, or give another --listen")]
    Listen(SocketAddr, io::Error),
    #[error("the data directory {folder} is in use by {holder}; stop that service, or give another --data", folder = .0.display(), holder = .1)]
    Locked(PathBuf, String),
    #[error("cannot use the data directory {folder}: {error}", folder = .0.display(), error = .1)]
    Data(PathBuf, io::Error),
    #[error("{0}; is MariaDB running at the --database address?")]
    Database(#[from] zesty_catalog::CatalogError),
}

/// A service that listens.
pub struct Service {
    pub address: SocketAddr,
    listener: TcpListener,
    hub: Arc<Hub>,
    pauses: Pauses,
    /// Held as long as the service runs; the system lets go of it however the process ends.
    _lock: File,
}

/// The name of the file that holds the first key, inside the data directory.
pub const FIRST_KEY: &str = "first-key";

fn node_name(data: &Path) -> io::Result<String> {
    let path = data.join("node");
    match std::fs::read_to_string(&path) {
        Ok(name) => Ok(name.trim().into()),
        Err(e) if e.kind() == io::ErrorKind::NotFound => {
            let name = random_hex(8);
            std::fs::write(&path, &name)?;
            Ok(name)
        }
        Err(e) => Err(e),
    }
}

/// Takes the data directory for this process, or says who has it.
fn lock(data: &Path, address: SocketAddr) -> Result<File, StartError> {
    use std::io::{Read, Seek, SeekFrom, Write};
    let path = data.join("lock");
    let failed = |e| StartError::Data(data.to_owned(), e);
    let mut file =
        File::options().read(true).write(true).create(true).truncate(false).open(&path).map_err(failed)?;
    match file.try_lock() {
        Ok(()) => {}
        Err(std::fs::TryLockError::WouldBlock) => {
            let mut holder = String::new();
            let _ = file.read_to_string(&mut holder);
            let holder = if holder.is_empty() { "another service".to_owned() } else { holder };
            return Err(StartError::Locked(data.to_owned(), holder));
        }
        Err(std::fs::TryLockError::Error(e)) => return Err(failed(e)),
    }
    let holder = format!("process {}, which listens on {address}", std::process::id());
    file.set_len(0).and_then(|()| file.seek(SeekFrom::Start(0))).map_err(failed)?;
    file.write_all(holder.as_bytes()).map_err(failed)?;
    Ok(file)
}

fn write_secret(path: &Path, secret: &str) -> io::Result<()> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let mut file =
        std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?;
    file.write_all(secret.as_bytes())
}

/// Makes a key in the database directly: for whoever lost the last one.
pub async fn add_key(database_url: &str, name: &str) -> Result<String, StartError> {
    let key = auth::new_key();
    Catalog::connect(database_url).await?.add_key(name, &auth::hash(&key)).await?;
    Ok(key)
}

impl Service {
    /// Listens first, so that a taken port is known at once; then reads the collections.
    pub async fn start(config: Config) -> Result<Service, StartError> {
        let listener =
            TcpListener::bind(config.listen).await.map_err(|e| StartError::Listen(config.listen, e))?;
        let address = listener.local_addr().map_err(|e| StartError::Listen(config.listen, e))?;
        let in_data = |e| StartError::Data(config.data.clone(), e);
        std::fs::create_dir_all(config.data.join("indexes")).map_err(in_data)?;
        let lock = lock(&config.data, address)?;
        let node = node_name(&config.data).map_err(in_data)?;
        let catalog = Catalog::connect_within(&config.database_url, config.database_timeout).await?;
        if catalog.n_keys().await? == 0 {
            // Written before it is made valid: a crash between the two leaves a useless file, not a
            // valid key that nobody knows.
            let key = auth::new_key();
            let path = config.data.join(FIRST_KEY);
            write_secret(&path, &key).map_err(in_data)?;
            catalog.add_key("first", &auth::hash(&key)).await?;
            tracing::info!("made the first key; it is in {}", path.display());
        }
        catalog.node_lives(&node).await?;
        let left = catalog.fail_left_jobs(&node).await?;
        if left > 0 {
            tracing::warn!("{left} jobs were running when the service stopped; they are marked failed");
        }
        let stopped = catalog.stop_left_loads(&node).await?;
        if stopped > 0 {
            tracing::warn!("{stopped} loads were running when the service stopped; they can be resumed");
        }
        let start = Instant::now();
        let hub = Arc::new(Hub::new(
            catalog,
            node,
            config.data,
            config.threads.max(1),
            config.memory_budget,
            config.limits,
        ));
        hub.catch_up().await?;
        hub.clear_uploads().await?;
        hub.clear_later();
        tracing::info!(%address, elapsed_ms = start.elapsed().as_millis() as u64, "ready");
        Ok(Service { address, listener, hub, pauses: config.pauses, _lock: lock })
    }

    /// Serves until `stop` resolves, then lets running requests end.
    pub async fn serve(self, stop: impl Future<Output = ()> + Send + 'static) -> io::Result<()> {
        let following = tokio::spawn(self.hub.clone().keep_up());
        let (router, _) = router(self.hub.clone(), self.pauses);
        serving::serve(self.listener, router, self.pauses, stop).await;
        self.hub.stop();
        let _ = following.await;
        self.hub.catalog.clone().close().await;
        Ok(())
    }
}

/// The description of every route, as served at `/api/openapi.json`.
pub fn openapi() -> OpenApi {
    described().split_for_parts().1
}

fn described() -> OpenApiRouter<Arc<Hub>> {
    let mut api = OpenApiRouter::new()
        .routes(routes!(collections::list, collections::create))
        .routes(routes!(collections::show, collections::patch, collections::delete))
        .routes(routes!(collections::costs))
        .routes(routes!(columns::add))
        .routes(routes!(columns::drop_column))
        .routes(routes!(columns::fill))
        .routes(routes!(columns::unencoded))
        .routes(routes!(files::list, files::announce))
        .routes(routes!(files::show, files::remove))
        .routes(routes!(files::send))
        .routes(routes!(files::inspect))
        .routes(routes!(load_routes::list, load_routes::create))
        .routes(routes!(load_routes::show))
        .routes(routes!(load_routes::resume))
        .routes(routes!(load_routes::rejects))
        .routes(routes!(collections::serve, collections::serve_exact))
        .routes(routes!(records::page, records::write))
        .routes(routes!(records::show, records::patch, records::delete))
        .routes(routes!(records::delete_many))
        .routes(routes!(records::patch_many))
        .routes(routes!(records::fields))
        .routes(routes!(records::export))
        .routes(routes!(search::search))
        .routes(routes!(search::searches))
        .routes(routes!(search::read_filter))
        .routes(routes!(search::queryables))
        .routes(routes!(indexes::list, indexes::create))
        .routes(routes!(indexes::delete))
        .routes(routes!(indexes::absorb))
        .routes(routes!(indexes::check))
        .routes(routes!(sweeps::list, sweeps::create))
        .routes(routes!(job_routes::list))
        .routes(routes!(job_routes::show))
        .routes(routes!(job_routes::events))
        .routes(routes!(job_routes::cancel))
        .routes(routes!(system::encoders))
        .routes(routes!(system::put_encoder, system::remove_encoder))
        .routes(routes!(system::service))
        .routes(routes!(system::keys, system::create_key))
        .routes(routes!(system::remove_key))
        .routes(routes!(system::sign_in_link))
        .routes(routes!(system::sign_out));
    let info = &mut api.get_openapi_mut().info;
    info.title = "Zesty Lantern".into();
    info.version = env!("CARGO_PKG_VERSION").into();
    let kinds: Vec<String> = problem::Kind::ALL
        .iter()
        .map(|k| format!("- `{}` ({}): {}", k.word(), k.status().as_u16(), k.title()))
        .collect();
    info.description = Some(format!(
        "Collections of records with vectors, approximate nearest-neighbour indexes, filtered similarity search, \
         and measured recall. Every route needs a key: `Authorization: Bearer zk_...`.\n\nErrors are Problem \
         Details (RFC 9457); their `type` is `urn:zesty-lantern:problem:` and one of:\n\n{}",
        kinds.join("\n")
    ));
    info.license = Some(utoipa::openapi::License::new("MIT"));
    api
}

fn router(hub: Arc<Hub>, pauses: Pauses) -> (Router, OpenApi) {
    let (routes, openapi) = described().split_for_parts();
    // Written once: every connection shares it.
    let document = Bytes::from(serde_json::to_vec(&openapi).expect("plain data"));
    let json = [(axum::http::header::CONTENT_TYPE, "application/json")];
    let router = routes
        .route("/api/openapi.json", get(move || async move { (json, document) }))
        .fallback(console::file)
        .method_not_allowed_fallback(console::wrong_method)
        .layer(middleware::from_fn_with_state(hub.clone(), auth::require))
        .route("/sign-in/{ticket}", get(auth::sign_in))
        .layer(axum::extract::DefaultBodyLimit::disable())
        // A body whose sender stops in the middle is given up.
        .layer(RequestBodyTimeoutLayer::new(pauses.body))
        .layer(middleware::from_fn(edge::finish))
        .layer(CompressionLayer::new().gzip(true))
        .with_state(hub);
    (router, openapi)
}

//! The real thing on loopback, for tests: service and encoder in this process, MariaDB next to it.

pub mod connection;

use base64::Engine as _;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use tempfile::TempDir;
use tokio::sync::oneshot;
use tokio::task::JoinHandle;
use zesty_client::{Client, Error, Problem};
use zesty_encoder::SIZES;
use zesty_encoder::model::Model;
use zesty_service::{Config, DATABASE_TIMEOUT, FIRST_KEY, LaneSizes, Limits, Pauses, Service};

pub struct Running {
    pub client: Client,
    pub key: String,
    pub url: String,
    pub data: PathBuf,
    pub database: String,
    pub encoder: String,
    folder: Option<TempDir>,
    stop: Option<oneshot::Sender<()>>,
    serving: JoinHandle<()>,
}

/// A few notes, enough to learn two small encoders from in no time.
pub fn notes() -> Vec<String> {
    static NOTES: OnceLock<Vec<String>> = OnceLock::new();
    let make = || {
        let book = read_logbook(6000);
        book.iter().map(|e| e["note"].as_str().unwrap().to_owned()).collect()
    };
    NOTES.get_or_init(make).clone()
}

pub fn demo(file: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(file)
}

/// Lines of the demo's logbook, spread over all years.
pub fn read_logbook(n: usize) -> Vec<Value> {
    use std::io::BufRead;
    let file = flate2::read::GzDecoder::new(std::fs::File::open(demo("logbook.jsonl.gz")).unwrap());
    let lines = std::io::BufReader::new(file).lines();
    lines.step_by(30_000 / n).take(n).map(|l| serde_json::from_str(&l.unwrap()).unwrap()).collect()
}

/// An entry of the logbook as a record of the API.
pub fn as_record(mut entry: Value) -> Value {
    let key = entry.as_object_mut().unwrap().shift_remove("key");
    json!({"key": key, "fields": entry})
}

/// Bytes of a process by their name in its status: `RssAnon:` are held, `RssFile:` mapped and in memory.
pub fn bytes_of(process: u32, name: &str) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let line = status.lines().find(|l| l.starts_with(name)).unwrap_or("");
    line.split_whitespace().nth(1).and_then(|n| n.parse::<u64>().ok()).unwrap_or(0) * 1024
}

/// Starts the stand-in encoder; returns its address.
pub async fn encoder() -> String {
    let models = tokio::task::spawn_blocking(|| Model::load_or_learn(&notes(), &SIZES, None).unwrap());
    serve(zesty_encoder::server::router(models.await.unwrap())).await
}

/// One of our programs, which bin/test builds before the tests: target/quick/deps/this-test -> target/quick/NAME.
pub fn program(name: &str) -> PathBuf {
    let here = std::env::current_exe().unwrap();
    let path = here.ancestors().nth(2).unwrap().join(name);
    assert!(path.is_file(), "{} is not built; run bin/test, or cargo build --bins", path.display());
    path
}

/// Whether an encoder is asked for the text that it is known by, when it is named.
pub fn is_known_text(request: &Value) -> bool {
    request["inputs"][0]["data"][0].as_str().is_some_and(|text| text.starts_with("The fog bell rang twice"))
}

pub async fn serve(router: axum::Router) -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move { axum::serve(listener, router).await.unwrap() });
    url
}

async fn launch(database: String, data: PathBuf, folder: Option<TempDir>, encoder: String) -> Running {
    launch_as(config(&database, &data), folder, encoder).await
}

/// What services are started with here, unless a test changes it.
pub fn config(database: &str, data: &Path) -> Config {
    Config {
        database_url: database.into(),
        data: data.into(),
        listen: "127.0.0.1:0".parse().unwrap(),
        memory_budget: None,
        large_pages: 256 << 20,
        behind_tls: false,
        threads: 2,
        limits: Limits { unpacked_bytes: 4_000_000, ..Limits::default() },
        database_timeout: DATABASE_TIMEOUT,
        pauses: Pauses::default(),
        lanes: LaneSizes::of_cores(16),
        encoder_hosts: Vec::new(),
        restore_days: 7,
        tls: None,
    }
}

/// Starts a service as it is described.
pub async fn launch_as(config: Config, folder: Option<TempDir>, encoder: String) -> Running {
    let (database, data) = (config.database_url.clone(), config.data.clone());
    let service = Service::start(config).await.unwrap();
    let url = service.url();
    let (stop, stopped) = oneshot::channel::<()>();
    let serving = tokio::spawn(async move {
        service.serve(async { drop(stopped.await) }).await.unwrap();
    });
    let key = std::fs::read_to_string(data.join(FIRST_KEY)).unwrap();
    let client = Client::new(&url, &key);
    Running { client, key, url, data, database, encoder, folder, stop: Some(stop), serving }
}

/// A service with an empty database, no encoder.
pub async fn plain() -> Running {
    changed(|config| config).await
}

/// The same, with other settings.
pub async fn changed(change: impl FnOnce(Config) -> Config) -> Running {
    let folder = tempfile::tempdir().unwrap();
    let database = tokio::task::spawn_blocking(zesty_local::scratch::database).await.unwrap();
    let config = change(config(&database, &folder.path().join("service")));
    launch_as(config, Some(folder), String::new()).await
}

/// A service that knows both encoders.
pub async fn with_encoder() -> Running {
    know_encoders(plain().await).await
}

/// The same, where collections and indexes may take so many megabytes.
pub async fn with_memory(mb: u64) -> Running {
    know_encoders(changed(|c| Config { memory_budget: Some(mb * 1_000_000), ..c }).await).await
}

async fn know_encoders(mut running: Running) -> Running {
    running.encoder = encoder().await;
    for size in SIZES {
        running.client.put_encoder(size.name, &running.encoder, size.name).await.unwrap();
    }
    running
}

impl Running {
    /// Stops the service and starts it again on what it left.
    pub async fn restart(mut self) -> Running {
        drop(self.stop.take());
        (&mut self.serving).await.unwrap();
        launch(self.database.clone(), self.data.clone(), self.folder.take(), self.encoder.clone()).await
    }

    /// Stops the service, lets `damage` work on what it left, and starts it again.
    pub async fn restart_after(mut self, damage: impl FnOnce(&Path)) -> Running {
        drop(self.stop.take());
        (&mut self.serving).await.unwrap();
        damage(&self.data);
        launch(self.database.clone(), self.data.clone(), self.folder.take(), self.encoder.clone()).await
    }

    /// Stops the service; gives the folder back, so that it stays.
    pub async fn stop(mut self) -> Option<TempDir> {
        drop(self.stop.take());
        (&mut self.serving).await.unwrap();
        self.folder.take()
    }

    /// The OpenAPI document that it serves.
    pub async fn openapi(&self) -> Value {
        let asked = self.client.request("GET".parse().unwrap(), "/api/openapi.json");
        asked.send().await.unwrap().json().await.unwrap()
    }

    /// A second node on the same database, with a data directory of its own.
    pub async fn second_node(&self) -> Running {
        let folder = tempfile::tempdir().unwrap();
        let data = folder.path().join("service");
        std::fs::create_dir_all(&data).unwrap();
        std::fs::write(data.join(FIRST_KEY), &self.key).unwrap();
        launch(self.database.clone(), data, Some(folder), self.encoder.clone()).await
    }

    pub async fn logbook(&self, n: usize) {
        let fields: Value =
            serde_json::from_str(&std::fs::read_to_string(demo("logbook.schema.json")).unwrap()).unwrap();
        let input = json!({"name": "logbook", "description": "The keepers' logbook", "fields": fields, "columns": [
            {"name": "meaning", "encoder": "lampwright-small", "template": "{note}"}]});
        self.client.create_collection(&input).await.unwrap();
        let records: Vec<Value> = read_logbook(n).into_iter().map(as_record).collect();
        let mut read = 0;
        for records in records.chunks(1000) {
            read += self.client.write("logbook", records).await.unwrap().new;
        }
        assert_eq!(read, n);
    }

    /// Builds an index and waits for it.
    pub async fn build(&self, collection: &str, name: &str, recipe: &str) {
        let job =
            self.client.build_index(collection, &json!({"name": name, "recipe": recipe})).await.unwrap();
        self.finish(job.id).await;
    }

    /// Waits for a job, which must succeed.
    pub async fn finish(&self, job: i64) -> zesty_wire::Job {
        let job = self.client.watch_job(job, |_| ()).await.unwrap();
        assert_eq!(job.state, "done", "{:?}", job.error);
        job
    }

    /// Sends a request as it is; returns the status and the body.
    pub async fn send(
        &self,
        method: &str,
        path: &str,
        media: &str,
        body: impl Into<Vec<u8>>,
    ) -> (u16, Value) {
        let method = method.parse().unwrap();
        let request = self.client.request(method, path).header("content-type", media).body(body.into());
        let response = request.send().await.unwrap();
        let status = response.status().as_u16();
        let text = response.text().await.unwrap();
        (status, serde_json::from_str(&text).unwrap_or(Value::String(text)))
    }
}

/// A vector as requests may write it, in place of a list.
pub fn in_base64(vector: &[f32]) -> String {
    base64::engine::general_purpose::STANDARD.encode(bytemuck::cast_slice(vector))
}

/// The problem behind a refused call.
pub fn refused<T: std::fmt::Debug>(result: Result<T, Error>) -> Problem {
    match result {
        Err(Error::Refused(problem)) => *problem,
        other => panic!("expected a refusal, got {other:?}"),
    }
}

/// Waits until something holds; a test that waits for what never comes fails instead of hanging. It asks again after a
/// pause: asking all the time would take the cores from background work, which has only what others leave.
pub async fn eventually(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    let waiting = async {
        while !holds().await {
            tokio::time::sleep(std::time::Duration::from_millis(10)).await;
        }
    };
    let waited = tokio::time::timeout(std::time::Duration::from_secs(90), waiting).await;
    assert!(waited.is_ok(), "{what} has not come about");
}

/// The options of a load, as the API takes them.
pub fn options(value: Value) -> zesty_wire::LoadRequest {
    serde_json::from_value(value).unwrap()
}

/// A file of vectors for the default column.
pub fn vector_file(file: PathBuf) -> zesty_client::load::VectorFile {
    zesty_client::load::VectorFile { column: None, file, keys: None }
}

/// An index with its settings, as a serving choice.
pub fn choice(index: &str, settings: Value) -> zesty_wire::ServingChoice {
    zesty_wire::ServingChoice {
        index: index.into(),
        settings: serde_json::from_value(settings).unwrap(),
        recall: None,
    }
}

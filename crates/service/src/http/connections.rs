//! Connections: how many there may be, and how long each may take over its parts.
//!
//! All connections share one router. A connection that sends no request, half of one, or does not read its answer
//! is closed after a stated time.

use axum::Router;
use axum::extract::Request;
use hyper::body::Incoming;
use hyper::service::Service;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use hyper_util::service::TowerToHyperService;
use std::io;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio_io_timeout::TimeoutStream;
use tower::ServiceExt;

/// Connections at the same time; more wait to be accepted.
const MOST: usize = 4096;

/// The address that a request comes from: of the other end of its connection.
#[derive(Clone, Copy, Debug)]
pub struct Peer(pub IpAddr);

/// How long a caller may leave a connection waiting.
#[derive(Clone, Copy, Debug)]
pub struct Pauses {
    /// For the head of a request, from when the connection is free for it.
    pub head: Duration,
    /// Between two parts of a body.
    pub body: Duration,
    /// With an answer that it does not read.
    pub unread: Duration,
}

impl Default for Pauses {
    fn default() -> Self {
        let s = Duration::from_secs;
        Pauses { head: s(30), body: s(30), unread: s(60) }
    }
}

/// How long running requests have to end when the service stops. Event streams go on as long as someone listens.
const GRACE: Duration = Duration::from_secs(3);

/// Serves until `stop` resolves, then lets running requests end.
pub async fn serve(listener: TcpListener, router: Router, pauses: Pauses, stop: impl Future<Output = ()>) {
    let room = Arc::new(Semaphore::new(MOST));
    let graceful = GracefulShutdown::new();
    let service = TowerToHyperService::new(
        router.map_request(|request: Request<Incoming>| request.map(axum::body::Body::new)),
    );
    let service = |peer: IpAddr| {
        let service = service.clone();
        hyper::service::service_fn(move |mut request: Request<Incoming>| {
            request.extensions_mut().insert(Peer(peer));
            service.call(request)
        })
    };
    let mut http = hyper::server::conn::http1::Builder::new();
    http.timer(TokioTimer::new()).header_read_timeout(pauses.head);
    let mut stop = std::pin::pin!(stop);
    loop {
        let Ok(permit) = room.clone().acquire_owned().await else { break };
        let stream = tokio::select! {
            accepted = listener.accept() => accepted,
            () = &mut stop => break,
        };
        let (stream, peer) = match stream {
            Ok(accepted) => accepted,
            Err(e) => {
                // Too many open files, mostly: those that are served end some day.
                if !is_of_one_connection(&e) {
                    tracing::warn!("cannot accept a connection: {e}");
                    tokio::time::sleep(Duration::from_millis(200)).await;
                }
                continue;
            }
        };
        let connection =
            http.serve_connection(TokioIo::new(timed(stream, pauses.unread)), service(peer.ip()));
        let connection = graceful.watch(connection);
        tokio::spawn(async move {
            if let Err(e) = connection.await {
                tracing::debug!("a connection ended: {e}");
            }
            drop(permit);
        });
    }
    drop(listener);
    let _ = tokio::time::timeout(GRACE, graceful.shutdown()).await;
}

fn timed(stream: TcpStream, unread: Duration) -> std::pin::Pin<Box<TimeoutStream<TcpStream>>> {
    let _ = stream.set_nodelay(true);
    let mut stream = TimeoutStream::new(stream);
    stream.set_write_timeout(Some(unread));
    Box::pin(stream)
}

fn is_of_one_connection(error: &io::Error) -> bool {
    use io::ErrorKind::{ConnectionAborted, ConnectionRefused, ConnectionReset};
    matches!(error.kind(), ConnectionAborted | ConnectionRefused | ConnectionReset)
}

//! Connections: how many there may be, and how long each may take over its parts.
//!
//! All connections share one router. A connection that sends no request, half of one, or does not read its answer
//! is closed after a stated time.

use crate::http::answer::{Json, write_body};
use crate::http::app::App;
use crate::http::browser::set_headers;
use crate::http::kinds::is_search;
use crate::http::lingering::{Lingering, Unread};
use crate::http::pausing::Pausing;
use crate::http::refusals::Refusals;
use crate::http::tls::Tls;
use crate::problem::{Kind, Problem};
use axum::Router;
use axum::extract::Request;
use axum::http;
use axum::response::{IntoResponse, Response};
use futures::TryFutureExt;
use futures::future::ready;
use headers::{ContentLength, HeaderMapExt};
use hyper::body::Incoming;
use hyper::service::Service;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use hyper_util::service::TowerToHyperService;
use std::convert::Infallible;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpSocket, TcpStream};
use tokio::sync::Semaphore;
use tokio_io_timeout::TimeoutStream;
use tokio_rustls::server::TlsStream;
use tokio_util::either::Either;
use tower::ServiceExt;
use zesty_wire as wire;

/// Connections at the same time; more wait to be accepted.
const MOST: usize = 4096;

/// Connections that wait to be accepted. The system drops the first packet of those beyond, and the caller sends it again
/// after a second.
const MOST_WAITING: u32 = 4096;

/// Listens at an address.
pub fn listen(address: SocketAddr) -> io::Result<TcpListener> {
    let socket = if address.is_ipv4() { TcpSocket::new_v4() } else { TcpSocket::new_v6() }?;
    socket.set_reuseaddr(true)?;
    socket.bind(address)?;
    socket.listen(MOST_WAITING)
}

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

/// The same while the service opens its collections.
const MOST_MEANWHILE: usize = 256;

/// How long running requests have to end when the service stops. Event streams end at once.
const GRACE: Duration = Duration::from_secs(20);

/// Bytes of a body that are read whatever comes of it.
const SHORT: u64 = 64 << 10;

/// Whether a request has a body that may not be read to its end.
fn is_long(headers: &http::HeaderMap) -> bool {
    headers.typed_get::<ContentLength>().is_some_and(|said| said.0 > SHORT)
        || headers.contains_key(http::header::TRANSFER_ENCODING)
}

/// Serves until `stop` resolves, then lets running requests end.
pub async fn serve(
    (listener, tls): (TcpListener, Option<Arc<Tls>>),
    router: Router,
    app: Arc<App>,
    pauses: Pauses,
    stop: impl Future<Output = ()>,
) {
    let room = Arc::new(Semaphore::new(MOST));
    let graceful = GracefulShutdown::new();
    let service = TowerToHyperService::new(router.map_request(move |request: Request<Incoming>| {
        request.map(|body| axum::body::Body::new(Pausing::new(body, pauses.body)))
    }));
    let refusals = Arc::new(Refusals::of(&app.lanes.searches).await);
    let service = |peer: IpAddr, unread: Unread| {
        let (service, app, refusals) = (service.clone(), app.clone(), refusals.clone());
        hyper::service::service_fn(move |mut request: Request<Incoming>| {
            let (is_long, unread) = (is_long(request.headers()), unread.clone());
            let answer = match refused_early(&app, &refusals, &request) {
                Some(refusal) => futures::future::Either::Left(ready(Ok(refusal))),
                None => {
                    request.extensions_mut().insert(Peer(peer));
                    futures::future::Either::Right(service.call(request))
                }
            };
            answer.map_ok(move |mut response| {
                let status = response.status();
                // The rest of the body is not read, and the connection ends. Who is not told sends the next request on it.
                if is_long && (status.is_client_error() || status.is_server_error()) {
                    let close = http::HeaderValue::from_static("close");
                    response.headers_mut().insert(http::header::CONNECTION, close);
                    unread.note();
                }
                response
            })
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
        let unread = Unread::default();
        let (http, service) = (http.clone(), service(peer.ip(), unread.clone()));
        let (tls, watcher) = (tls.clone(), graceful.watcher());
        tokio::spawn(async move {
            match agreed(timed(stream, pauses.unread), tls.as_deref()).await {
                Ok(stream) => {
                    let stream = TokioIo::new(Lingering::new(stream, unread));
                    let connection = http.serve_connection(stream, service);
                    if let Err(e) = watcher.watch(connection).await {
                        tracing::debug!("a connection ended: {e}");
                    }
                }
                Err(e) => tracing::debug!("a connection does not speak TLS: {e}"),
            }
            drop(permit);
        });
    }
    drop(listener);
    let _ = tokio::time::timeout(GRACE, graceful.shutdown()).await;
}

/// Refuses a search while the lane of searches is full, before anything of it is read.
fn refused_early(app: &App, refusals: &Refusals, request: &Request<Incoming>) -> Option<Response> {
    if request.method() != http::Method::POST || !is_search(request.uri().path()) {
        return None;
    }
    let most = app.lanes.searches.refuse_early()?;
    app.metrics.refused_early(Kind::Overloaded);
    Some(refusals.response(most))
}

/// A connection under TLS where there are certificates, or as it is.
async fn agreed<S: AsyncRead + AsyncWrite + Unpin>(
    stream: S,
    tls: Option<&Tls>,
) -> io::Result<Either<TlsStream<S>, S>> {
    match tls {
        Some(tls) => tls.accept(stream).await.map(Either::Left),
        None => Ok(Either::Right(stream)),
    }
}

/// Answers that the service is opening, for as long as this is polled.
pub async fn serve_meanwhile(listener: &TcpListener, tls: Option<Arc<Tls>>) -> Infallible {
    let room = Arc::new(Semaphore::new(MOST_MEANWHILE));
    loop {
        let permit = room.clone().acquire_owned().await;
        let Ok((stream, _)) = listener.accept().await else {
            tokio::time::sleep(Duration::from_millis(200)).await;
            continue;
        };
        let tls = tls.clone();
        tokio::spawn(async move {
            let mut http = hyper::server::conn::http1::Builder::new();
            http.timer(TokioTimer::new()).header_read_timeout(Duration::from_secs(5)).keep_alive(false);
            let service = hyper::service::service_fn(async |request| Ok::<_, Infallible>(opening(&request)));
            if let Ok(stream) = agreed(stream, tls.as_deref()).await {
                let _ = http.serve_connection(TokioIo::new(stream), service).await;
            }
            drop(permit);
        });
    }
}

/// The answer to a request that comes while the service opens its collections.
fn opening(request: &Request<Incoming>) -> Response {
    let health = |status: &str| Json(wire::Health { status: status.into(), database: None });
    let mut response = match request.uri().path() {
        "/health/live" => health("live").into_response(),
        "/health/ready" => (http::StatusCode::SERVICE_UNAVAILABLE, health("opening")).into_response(),
        _ => {
            let detail = "the service has just been started and reads its collections; try again soon";
            let problem = Problem::new(Kind::Busy, detail);
            let mut response = problem.clone().into_response();
            write_body(&mut response, &problem, "");
            response
        }
    };
    set_headers(response.headers_mut());
    response.headers_mut().insert(http::header::RETRY_AFTER, http::HeaderValue::from_static("1"));
    response
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

//! Bodies whose sender stops in the middle: they are given up after a while.

use axum::body::Bytes;
use hyper::body::{Body, Frame, SizeHint};
use std::error::Error;
use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;
use tokio::time::{Sleep, sleep};

type BoxError = Box<dyn Error + Send + Sync>;

/// A body that breaks off when its sender pauses for too long. Time is taken only while something is waited for: most
/// bodies are here at once.
pub struct Pausing<B> {
    body: B,
    longest: Duration,
    pause: Option<Pin<Box<Sleep>>>,
}

impl<B> Pausing<B> {
    pub fn new(body: B, longest: Duration) -> Self {
        Pausing { body, longest, pause: None }
    }
}

impl<B: Body<Data = Bytes, Error: Into<BoxError>> + Unpin> Body for Pausing<B> {
    type Data = Bytes;
    type Error = BoxError;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BoxError>>> {
        let this = &mut *self;
        if let Poll::Ready(frame) = Pin::new(&mut this.body).poll_frame(cx) {
            this.pause = None;
            return Poll::Ready(frame.map(|frame| frame.map_err(Into::into)));
        }
        let pause = this.pause.get_or_insert_with(|| Box::pin(sleep(this.longest)));
        let too_long = |()| {
            let text = format!("nothing came for {} s", this.longest.as_secs_f32());
            Some(Err(io::Error::new(io::ErrorKind::TimedOut, text).into()))
        };
        pause.as_mut().poll(cx).map(too_long)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use http_body_util::{BodyExt, StreamBody};
    use tokio::sync::mpsc;
    use tokio::time::advance;

    #[tokio::test(start_paused = true)]
    async fn a_body_that_pauses_goes_on_and_one_that_stops_breaks_off() {
        let (send, parts) = mpsc::unbounded_channel::<Result<Frame<Bytes>, BoxError>>();
        let parts = futures::stream::unfold(parts, async |mut parts| Some((parts.recv().await?, parts)));
        let mut body = Pausing::new(StreamBody::new(Box::pin(parts)), Duration::from_secs(3));
        for _ in 0..3 {
            let mut frame = Box::pin(body.frame());
            assert!(futures::poll!(&mut frame).is_pending());
            advance(Duration::from_secs(2)).await;
            assert!(futures::poll!(&mut frame).is_pending());
            send.send(Ok(Frame::data(Bytes::from_static(b"x")))).unwrap();
            assert_eq!(frame.await.unwrap().unwrap().into_data().unwrap(), "x");
        }
        let broken = body.frame().await.unwrap().unwrap_err();
        assert_eq!(broken.to_string(), "nothing came for 3 s");
        drop(send);
        assert!(body.frame().await.is_none());
    }
}

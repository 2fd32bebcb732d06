//! A connection that ends before the request was read to its end. If it were closed at once, the system would tell the
//! sender that the connection broke, and the answer that lies ready would be lost. So what still comes is read and
//! thrown away first: so much of it, and for so long (RFC 9112, 9.6).

use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::{Context, Poll, ready};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Sleep, sleep};

/// Bytes that are read and thrown away.
const MOST: usize = 16 << 20;

/// How long the sender has to end.
const LONGEST: Duration = Duration::from_secs(2);

/// Whether something of a request was left unread.
#[derive(Clone, Debug, Default)]
pub struct Unread(Arc<AtomicBool>);

impl Unread {
    pub fn note(&self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// A stream whose end waits for the other end, where something was left unread.
pub struct Lingering<S> {
    stream: S,
    unread: Unread,
    /// Once nothing is written any more.
    until: Option<Pin<Box<Sleep>>>,
    left: usize,
}

impl<S> Lingering<S> {
    pub fn new(stream: S, unread: Unread) -> Self {
        Lingering { stream, unread, until: None, left: MOST }
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Lingering<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(cx, buf)
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncWrite for Lingering<S> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(cx, buf)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        parts: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write_vectored(cx, parts)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        let this = &mut *self;
        if this.until.is_none() {
            ready!(Pin::new(&mut this.stream).poll_shutdown(cx))?;
            if !this.unread.0.load(Ordering::Relaxed) {
                return Poll::Ready(Ok(()));
            }
        }
        let until = this.until.get_or_insert_with(|| Box::pin(sleep(LONGEST)));
        let mut bytes = [0; 8 << 10];
        while this.left > 0 && until.as_mut().poll(cx).is_pending() {
            let mut buf = ReadBuf::new(&mut bytes);
            // Its end, or that it broke.
            if ready!(Pin::new(&mut this.stream).poll_read(cx, &mut buf)).is_err() || buf.filled().is_empty()
            {
                break;
            }
            this.left = this.left.saturating_sub(buf.filled().len());
        }
        Poll::Ready(Ok(()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::{AsyncReadExt, AsyncWriteExt, duplex};

    #[tokio::test(start_paused = true)]
    async fn an_end_waits_for_the_other_end_where_something_is_unread_but_not_for_ever() {
        let unread = Unread::default();
        unread.note();
        let (a, mut theirs) = duplex(64);
        let mut ours = Lingering::new(a, unread.clone());
        let mut end = Box::pin(ours.shutdown());
        assert!(futures::poll!(&mut end).is_pending());
        // More than fits is taken, because it is read.
        let sending = async {
            theirs.write_all(&[1; 1000]).await.unwrap();
            assert_eq!(theirs.read(&mut [0; 8]).await.unwrap(), 0, "nothing is written any more");
            drop(theirs);
        };
        let ((), ended) = tokio::join!(sending, end);
        ended.unwrap();

        // Time runs by itself while nothing else is to be done.
        let (a, _theirs) = duplex(64);
        let start = tokio::time::Instant::now();
        Lingering::new(a, unread).shutdown().await.unwrap();
        assert_eq!(start.elapsed().as_secs(), LONGEST.as_secs());
        let (a, _theirs) = duplex(64);
        Lingering::new(a, Unread::default()).shutdown().await.unwrap();
        assert_eq!(start.elapsed().as_secs(), LONGEST.as_secs());
    }
}

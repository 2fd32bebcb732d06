//! One HTTP connection that stays open, with next to no work of its own: for programs that measure the service.

use std::error::Error;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// A connection, and room for the answer.
pub struct Connection {
    stream: TcpStream,
    buffer: Vec<u8>,
}

/// An answer that was read whole.
#[derive(Clone, Copy, Debug)]
pub struct Answered {
    pub status: u16,
    /// Its head and its body.
    pub n_bytes: usize,
}

impl Connection {
    /// Connects to `http://HOST:PORT`.
    pub async fn open(url: &str) -> Result<Connection, Box<dyn Error + Send + Sync>> {
        let stream = TcpStream::connect(url.trim_start_matches("http://").trim_end_matches('/')).await?;
        stream.set_nodelay(true)?;
        Ok(Connection { stream, buffer: vec![0; 64 << 10] })
    }

    /// Sends a request, and reads the answer whole.
    pub async fn ask(&mut self, request: &[u8]) -> Result<Answered, Box<dyn Error + Send + Sync>> {
        self.stream.write_all(request).await?;
        let (mut have, mut answered) = (0, Answered { status: 0, n_bytes: usize::MAX });
        while have < answered.n_bytes {
            if have == self.buffer.len() {
                self.buffer.resize(2 * have, 0);
            }
            let n = self.stream.read(&mut self.buffer[have..]).await?;
            if n == 0 {
                return Err("the service closed the connection".into());
            }
            have += n;
            if answered.status == 0
                && let Some(head) = self.buffer[..have].windows(4).position(|w| w == b"\r\n\r\n")
            {
                let text = std::str::from_utf8(&self.buffer[..head])?.to_lowercase();
                let status = text.strip_prefix("http/1.1 ").and_then(|s| s.get(..3)).ok_or("no status")?;
                let length = text.lines().find_map(|l| l.strip_prefix("content-length: "));
                let length: usize = length.ok_or("no length")?.trim().parse()?;
                answered = Answered { status: status.parse()?, n_bytes: head + 4 + length };
            }
        }
        Ok(answered)
    }
}

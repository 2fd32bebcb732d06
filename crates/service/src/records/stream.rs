//! A stream of JSON Lines: each line is one record, and lines are committed together as they come.

use crate::access::grant::{Grant, Scope};
use crate::collections::reach::Reach;
use crate::collections::registry::Registry;
use crate::json::parse;
use crate::node::encoders::Encoders;
use crate::node::threads::blocking;
use crate::problem::{Kind, Problem, Result, is_length_limit};
use crate::records::batch::write_checked;
use crate::records::check::checked_shape;
use crate::records::encode::encode_missing;
use bytes::Bytes;
use futures::{Stream, StreamExt, TryStreamExt};
use std::collections::HashSet;
use std::io;
use std::sync::Arc;
use tokio_util::codec::{AnyDelimiterCodec, AnyDelimiterCodecError, FramedRead};
use tokio_util::io::StreamReader;
use zesty_wire::{NewRecord, Written};

/// Bytes of one line.
const MAX_LINE: usize = 64 << 20;

/// Lines of a JSON Lines stream that are committed together, and how many bytes of them at most.
const STREAM_BATCH: usize = 500;

const STREAM_BYTES: usize = 8 << 20;

/// Writes JSON Lines. Every 500 lines are committed together. A wrong line ends the stream; what was committed before
/// it stays, and the refusal says how much.
pub async fn write<E: std::error::Error + Send + Sync + 'static>(
    grant: &Grant,
    registry: &Arc<Registry>,
    encoders: &Encoders,
    collection: &str,
    body: impl Stream<Item = Result<Bytes, E>>,
) -> Result<Written> {
    let reach = registry.reach(grant, Scope::Write, collection)?;
    let done = Written { revision: reach.live.table.load().revision(), ..Written::default() };
    let mut writing = Writing { registry, encoders, reach: &reach, done };
    let outcome = writing.run(body).await;
    outcome.map_err(|problem| {
        let detail = format!("{}; the {} records before it are committed", problem.detail, writing.done.read);
        Problem { detail, ..problem }.with("committed", &writing.done)
    })?;
    Ok(writing.done)
}

/// Lines of a stream that are to be committed together.
#[derive(Default)]
struct Lines {
    /// Line number and text.
    lines: Vec<(usize, Bytes)>,
    n_bytes: usize,
}

/// A stream on its way into a collection.
struct Writing<'a> {
    registry: &'a Arc<Registry>,
    encoders: &'a Encoders,
    reach: &'a Reach,
    done: Written,
}

impl Writing<'_> {
    async fn run<E: std::error::Error + Send + Sync + 'static>(
        &mut self,
        body: impl Stream<Item = Result<Bytes, E>>,
    ) -> Result<()> {
        let reader = StreamReader::new(body.map_err(io::Error::other));
        let codec = AnyDelimiterCodec::new_with_max_length(b"\n".to_vec(), Vec::new(), MAX_LINE);
        let mut lines = std::pin::pin!(FramedRead::new(reader, codec));
        let mut batch = Lines::default();
        let mut line_number = 0;
        while let Some(line) = lines.next().await {
            let line = line.map_err(|e| broken_line(e, line_number))?;
            line_number += 1;
            if !line.iter().all(u8::is_ascii_whitespace) {
                batch.n_bytes += line.len();
                batch.lines.push((line_number, line));
            }
            if batch.lines.len() == STREAM_BATCH || batch.n_bytes > STREAM_BYTES {
                self.commit(std::mem::take(&mut batch)).await?;
            }
        }
        self.commit(batch).await
    }

    /// Commits lines. If a key appears twice, the later line wins, in a batch of its own.
    async fn commit(&mut self, batch: Lines) -> Result<()> {
        let grant = self.reach.grant.clone();
        let read = move |(n, line): (usize, Bytes)| {
            let stamped = |mut record: NewRecord| grant.stamp(&mut record, "").map(|()| record);
            parse(&line, "")
                .and_then(stamped)
                .map(|r| (n, r))
                .map_err(|p| Problem { detail: format!("line {n}: {}", p.detail), ..p }.with("line", n))
        };
        let all = blocking(move || batch.lines.into_iter().map(read).collect::<Result<Vec<_>>>()).await?;
        let mut parts: Vec<Vec<(usize, NewRecord)>> = vec![Vec::new()];
        let mut keys = HashSet::new();
        for (n, record) in all {
            if !keys.insert(record.key.clone()) {
                keys.clear();
                keys.insert(record.key.clone());
                parts.push(Vec::new());
            }
            parts.last_mut().expect("there is one").push((n, record));
        }
        for part in parts {
            let (lines, records): (Vec<usize>, Vec<NewRecord>) = part.into_iter().unzip();
            let checking = self.reach.live.clone();
            let (mut writes, lines) = blocking(move || {
                let place = |i: usize| (String::new(), format!("line {}, ", lines[i]));
                Ok((checked_shape(&checking, records, &place)?, lines))
            })
            .await?;
            let place = |i: usize| (String::new(), format!("line {}, ", lines[i]));
            encode_missing(self.encoders, &self.reach.live, &mut writes, &place).await?;
            let view = write_checked(self.registry, self.reach, writes).await?;
            self.done.read += view.read;
            self.done.new += view.new;
            self.done.replaced += view.replaced;
            self.done.unchanged += view.unchanged;
            self.done.revision = view.revision;
        }
        Ok(())
    }
}

fn broken_line(error: AnyDelimiterCodecError, line_number: usize) -> Problem {
    match error {
        AnyDelimiterCodecError::MaxChunkLengthExceeded => {
            let detail = format!("line {} is longer than {} MiB", line_number + 1, MAX_LINE >> 20);
            Problem::new(Kind::TooLarge, detail).with("limit_bytes", MAX_LINE)
        }
        AnyDelimiterCodecError::Io(e) if e.get_ref().is_some_and(|e| is_length_limit(e)) => Problem::new(
            Kind::TooLarge,
            format!("the stream is longer than this key may send; it ended after line {line_number}"),
        ),
        AnyDelimiterCodecError::Io(e) => {
            let detail = format!("the stream broke off after line {line_number}: {e}");
            Problem::new(Kind::BrokenBody, detail)
        }
    }
}

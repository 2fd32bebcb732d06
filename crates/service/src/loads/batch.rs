//! Reading ahead: a thread of its own reads one batch of rows while the one before it is written.

use tokio::sync::mpsc;
use zesty_files::{Row, Rows};

/// Bytes of rows committed together at most; a row that is larger goes alone.
pub const BATCH_BYTES: usize = 8 << 20;

/// Rows read together, and how many bytes of the files are behind them.
pub struct Batch {
    pub rows: Vec<Row>,
    pub bytes: u64,
}

/// Reads rows from `position` on and sends them in batches, until they end or nobody listens.
pub fn read_ahead(mut rows: Rows, position: u64, size: usize, send: mpsc::Sender<Result<Batch, String>>) {
    let outcome = (|| {
        rows.pass(position).map_err(|e| e.to_string())?;
        let mut batch = Vec::with_capacity(size);
        let (mut bytes, mut read) = (0, 0);
        while let Some(row) = rows.next() {
            let row = row.map_err(|e| e.to_string());
            let own = row.as_ref().map_or(0, |row| row.n_bytes);
            // Rows before an error of the whole file still count.
            if (batch.len() == size || bytes + own > BATCH_BYTES || row.is_err()) && !batch.is_empty() {
                let rows = std::mem::replace(&mut batch, Vec::with_capacity(size));
                bytes = 0;
                if send.blocking_send(Ok(Batch { rows, bytes: read })).is_err() {
                    return Ok(());
                }
            }
            batch.push(row?);
            bytes += own;
            read = rows.bytes_read();
        }
        let _ = send.blocking_send(Ok(Batch { rows: batch, bytes: rows.bytes_read() }));
        Ok(())
    })();
    if let Err(why) = outcome {
        let _ = send.blocking_send(Err(why));
    }
}

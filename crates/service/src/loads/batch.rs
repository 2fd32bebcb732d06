//! Reading ahead: a thread of its own reads and checks batches of rows while those before them are written.

use crate::loads::check::{Checked, Checker};
use tokio::sync::mpsc;
use zesty_files::Rows;

/// Bytes of rows committed together at most; a row that is larger goes alone.
pub const BATCH_BYTES: usize = 8 << 20;

/// Rows that were read together, as they were checked, and how many bytes of the files are behind them.
pub struct Batch {
    pub checked: Checked,
    pub bytes: u64,
}

/// Reads rows from `position` on, checks them, and sends them in batches, until they end or nobody listens.
pub fn read_ahead(
    mut rows: Rows,
    position: u64,
    size: usize,
    checker: &Checker,
    send: mpsc::Sender<Result<Batch, String>>,
) {
    // Whether somebody listens.
    let pass = |rows, bytes| {
        let checked = checker.check(rows).map_err(|p| p.detail)?;
        Ok::<_, String>(send.blocking_send(Ok(Batch { checked, bytes })).is_ok())
    };
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
                if !pass(rows, read)? {
                    return Ok(());
                }
            }
            batch.push(row?);
            bytes += own;
            read = rows.bytes_read();
        }
        pass(batch, rows.bytes_read()).map(drop)
    })();
    if let Err(why) = outcome {
        let _ = send.blocking_send(Err(why));
    }
}

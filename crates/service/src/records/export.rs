//! Records written out: all of them, or those that a filter allows.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::node::threads::{background, blocking};
use crate::problem::{Kind, Problem, Result};
use futures::{Stream, StreamExt};
use std::borrow::Cow;
use std::io;
use std::sync::Arc;
use zesty_engine::Table;
use zesty_engine::rows::LastBlock;
use zesty_files::{Export, Layout, OutColumn, OutRecord};
use zesty_wire as wire;

/// What to write out.
pub struct ExportRequest {
    pub filter: Option<wire::Filter>,
    /// With vectors, as they were given.
    pub vectors: bool,
    /// The name of a layout; `jsonlines` when absent.
    pub format: Option<String>,
    /// Only this vector column.
    pub column: Option<String>,
}

/// An export that has begun.
pub struct Exported<S> {
    pub media_type: &'static str,
    /// Records that it will hold.
    pub n_records: usize,
    pub revision: u64,
    /// The bytes; an error breaks the export off.
    pub parts: S,
}

/// Records that are read and written together in an export.
const EXPORT_STEP: usize = 500;

/// Begins an export: in the order in which records were written, from one snapshot of which records there are.
pub async fn export(
    grant: &Grant,
    registry: &Arc<Registry>,
    collection: &str,
    query: ExportRequest,
) -> Result<Exported<impl Stream<Item = io::Result<Vec<u8>>> + use<>>> {
    let reach = registry.reach(grant, Scope::Read, collection)?;
    let live = reach.live.clone();
    let table = live.table.load_full();
    let format = query.format.as_deref().unwrap_or("jsonlines");
    let layout = Layout::ALL.into_iter().find(|l| l.name() == format).ok_or_else(|| {
        let known = Layout::ALL.map(Layout::name).join(", ");
        Problem::new(Kind::WrongShape, format!("format is \"{format}\"; it is one of {known}")).at("/format")
    })?;
    let one = query.column.as_deref().map(|c| live.column(Some(c), "/column")).transpose()?;
    let columns: Vec<usize> = match one {
        Some(column) => vec![column],
        None if layout.is_vectors() => vec![live.column(None, "/column")?],
        None if query.vectors => (0..live.columns().len()).collect(),
        None => Vec::new(),
    };
    let with_vector = (layout.is_vectors() || (layout == Layout::Keys && one.is_some())).then(|| columns[0]);
    let (selecting, filter) = (table.clone(), query.filter);
    let (rows, keys) = blocking(move || {
        let mut rows = reach.allowed(&selecting, filter.as_ref())?;
        if let Some(column) = with_vector {
            selecting.vectors()[column].vectors.present().keep_in(&mut rows);
        }
        let rows: Vec<u32> = rows.ones().map(|r| r as u32).collect();
        let keys: Vec<String> = match layout.is_vectors() {
            true => rows.iter().map(|r| selecting.key(*r).to_owned()).collect(),
            false => Vec::new(),
        };
        Ok((rows, keys))
    })
    .await?;
    let fields = table.schema().fields.iter().map(|f| (f.name.clone(), f.kind.name().to_owned()));
    let out_columns = columns.iter().map(|c| {
        let about = &live.columns()[*c];
        OutColumn {
            name: about.name.clone(),
            dimensions: about.dimensions as usize,
            encoder: about.encoder.clone(),
        }
    });
    let broken =
        |e: std::io::Error| Problem::new(Kind::Internal, format!("the export cannot be written: {e}"));
    let export = Export::new(layout, fields.collect(), out_columns.collect(), &keys).map_err(broken)?;
    let n_records = rows.len();
    let revision = table.revision();
    let portions: Vec<Vec<u32>> = rows.chunks(EXPORT_STEP).map(<[u32]>::to_vec).collect();
    let stream = futures::stream::unfold(Some((export, portions.into_iter())), move |state| {
        let (live, table, columns) = (live.clone(), table.clone(), columns.clone());
        async move {
            let (mut export, mut portions) = state?;
            // Compressing and laying out columns takes long enough to hold up other requests.
            let written = background(move || {
                let Some(rows) = portions.next() else { return (export.finish(), None) };
                let written = match export_portion(&live, &table, &rows, &columns) {
                    Ok(records) => export.write(&records),
                    Err(p) => Err(std::io::Error::other(p.detail)),
                };
                let goes_on = written.is_ok();
                (written, goes_on.then_some((export, portions)))
            });
            Some(written.await.unwrap_or_else(|why| (Err(std::io::Error::other(why)), None)))
        }
    });
    // Compression asks once more after the end.
    Ok(Exported { media_type: layout.media_type(), n_records, revision, parts: stream.fuse() })
}

fn export_portion(live: &Live, table: &Table, rows: &[u32], columns: &[usize]) -> Result<Vec<OutRecord>> {
    let mut last = LastBlock::default();
    let out = |&row: &u32| {
        let given = |column: &usize| table.vectors()[*column].given(row).map(Cow::into_owned);
        Ok(OutRecord {
            vectors: columns.iter().map(given).collect(),
            key: table.key(row).to_owned(),
            fields: live.body(table, row, &mut last)?,
        })
    };
    rows.iter().map(out).collect()
}

//! Index files: caches that are made again when they are lost, damaged or not this index's.

use std::path::Path;
use std::sync::Arc;
use zesty_catalog::index;
use zesty_engine::index::Index;
use zesty_engine::large_pages::LargePages;

/// Whose index it is: ids come again when a database is restored from a dump, so the time goes with them.
pub fn owner(model: &index::Model) -> String {
    format!(
        "collection {}, column {}, index {}, made {}",
        model.collection_id,
        model.column_id,
        model.id,
        model.created_at.timestamp_millis()
    )
}

/// An index file of this index, whole and sound; or what is wrong with it.
pub fn open(path: &Path, model: &index::Model, pages: &LargePages) -> Result<Arc<Index>, String> {
    let index = Index::open_into(path, pages).map_err(|e| e.to_string())?;
    let said = index.description();
    if said.owner != owner(model) {
        return Err(format!("the index file {} belongs to another index ({})", path.display(), said.owner));
    }
    if said.recipe != model.recipe || said.seed != model.seed as u64 {
        return Err(format!(
            "the index file {} was made by another recipe ({})",
            path.display(),
            said.recipe
        ));
    }
    Ok(Arc::new(index))
}

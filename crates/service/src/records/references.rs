//! References between collections: which of them name records that do not exist.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;

/// References to records that are not there, field by field.
pub fn dangling(grant: &Grant, registry: &Registry, live: &Live) -> Vec<String> {
    let table = live.table.load();
    let fields = table.schema().fields.iter().enumerate();
    fields
        .filter_map(|(i, field)| {
            let lost = lost_references(grant, registry, live, i)?;
            let (n, example) = lost;
            let to = field.refers_to.as_deref().unwrap_or("");
            (n > 0).then(|| {
                format!(
                    "{n} records refer by \"{}\" to records that {to} does not have, such as \"{example}\"",
                    field.name
                )
            })
        })
        .collect()
}

/// How many records refer to what is not there, and one key they name; `None` for a field that is no reference.
pub fn lost_references(
    grant: &Grant,
    registry: &Registry,
    live: &Live,
    field: usize,
) -> Option<(usize, String)> {
    use zesty_engine::rows::Column;
    let table = live.table.load();
    let to = table.schema().fields[field].refers_to.as_ref()?;
    let Column::Text(texts) = table.column(field) else { return None };
    let other = registry.collection(grant, Scope::Read, to).ok().map(|l| l.table.load_full());
    let there: Vec<bool> =
        texts.dictionary().map(|key| other.as_ref().is_some_and(|t| t.row(key).is_some())).collect();
    let mut lost =
        table.alive().ones().filter_map(|r| texts.code_of(r as u32)).filter(|c| !there[*c as usize]);
    let first = lost.next();
    let example = first.map_or(String::new(), |c| texts.text(c).to_owned());
    Some((lost.count() + usize::from(first.is_some()), example))
}

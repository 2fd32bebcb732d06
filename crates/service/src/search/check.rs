//! A search held against its collection, before anything is computed.

use crate::access::grant::Scope;
use crate::collections::reach::{Allowing, Reach};
use crate::collections::registry::Registry;
use crate::names::{MOST_NAMES, check_lists};
use crate::problem::{Kind, Problem, Result};
use crate::records::page::sort_field;
use crate::search::settings::{MAX_DEEP, MAX_K, check_k};
use zesty_engine::Schema;
use zesty_engine::filter::{Filter, Test};
use zesty_engine::rows::order;
use zesty_wire::SearchRequest;

/// Keys that a search can leave out.
pub const MAX_LEFT_OUT: usize = 10_000;

/// A search that was checked against the collection.
pub struct Checked {
    pub column: usize,
    pub filter: Option<Filter>,
    pub test: Option<Test>,
    /// A field, and how many hits may share a value of it.
    pub at_most: Option<(usize, usize)>,
    /// A field, and whether the largest comes first.
    pub sort: Option<(usize, bool)>,
    pub vectors: Vec<usize>,
    /// Fields, and the collections whose keys they hold.
    pub follow: Vec<(usize, Reach)>,
}

fn wrong<T>(detail: String, pointer: &str) -> Result<T> {
    Err(Problem::new(Kind::WrongShape, detail).at(pointer))
}

fn known_field(schema: &Schema, field: &str, pointer: String) -> Result<usize> {
    let found = schema.position(field);
    found.ok_or_else(|| Problem::unknown("field", field, schema.names()).at(pointer))
}

pub fn check(reach: &Reach, registry: &Registry, request: &SearchRequest) -> Result<Checked> {
    check_numbers(request)?;
    let live = &reach.live;
    if request.explain && reach.is_bound() {
        let detail = format!(
            "explain tells of all records, and key \"{}\" is bound to a filter; leave it out",
            reach.grant.name()
        );
        return Err(Problem::new(Kind::NotPermitted, detail).at("/explain"));
    }
    let column = live.column(request.column.as_deref(), "/column")?;
    let table = live.table.load();
    let schema = table.schema();
    if let Some(fields) = &request.fields
        && let Some((i, field)) = fields.iter().enumerate().find(|(_, f)| !schema.has(f))
    {
        return Err(Problem::unknown("field", field, schema.names()).at(format!("/fields/{i}")));
    }
    let at_most = match &request.at_most {
        Some(a) if !(1..=MAX_K).contains(&a.hits) => {
            return wrong(format!("at_most takes 1 to {MAX_K} hits; {} are given", a.hits), "/at_most/hits");
        }
        Some(a) => Some((single_field(schema, &a.field, "/at_most/field")?, a.hits)),
        None => None,
    };
    let sort = request.sort.as_deref().filter(|s| !s.is_empty());
    let sort = sort.map(|s| sort_field(&table, s)).transpose()?;
    let columns = request.vectors.iter().flatten().enumerate();
    let vectors =
        columns.map(|(i, c)| live.column(Some(c), &format!("/vectors/{i}"))).collect::<Result<_>>()?;
    let follow = request.follow.iter().flatten().enumerate();
    let follow = follow.map(|(i, field)| followed(reach, registry, schema, field, &format!("/follow/{i}")));
    let follow = follow.collect::<Result<_>>()?;
    let Allowing { given: filter, test } = reach.filters(schema, request.filter.as_ref())?;
    Ok(Checked { column, filter, test, at_most, sort, vectors, follow })
}

fn check_numbers(request: &SearchRequest) -> Result<()> {
    check_k(request.k)?;
    if request.skip.saturating_add(request.k) > MAX_DEEP {
        let detail = format!(
            "skip {} and k {} reach past hit {MAX_DEEP}; a filter, or an export, gives all of them",
            request.skip, request.k
        );
        return wrong(detail, "/skip");
    }
    if request.leave_out.as_ref().is_some_and(|keys| keys.len() > MAX_LEFT_OUT) {
        return wrong(format!("leave_out takes up to {MAX_LEFT_OUT} keys"), "/leave_out");
    }
    let n = |names: &Option<Vec<String>>| names.as_ref().map_or(0, Vec::len);
    let lists =
        [("/fields", n(&request.fields)), ("/follow", n(&request.follow)), ("/vectors", n(&request.vectors))];
    check_lists(lists, MOST_NAMES)?;
    match request.time_limit_ms {
        Some(ms) if !(ms > 0.0 && ms <= 60_000.0) => {
            wrong(format!("time_limit_ms is {ms}; it is above 0 and up to 60000"), "/time_limit_ms")
        }
        _ => Ok(()),
    }
}

/// A field with one value for each record.
fn single_field(schema: &Schema, field: &str, pointer: &str) -> Result<usize> {
    let at = known_field(schema, field, pointer.to_owned())?;
    let about = &schema.fields[at];
    if order::sortable(about.kind, about.stored_only) {
        return Ok(at);
    }
    let why = if about.stored_only { "is stored only" } else { "holds arrays" };
    wrong(format!("field \"{field}\" {why}, so it has no single value to group by"), pointer)
}

/// A field that refers to a collection, and that collection.
fn followed(
    reach: &Reach,
    registry: &Registry,
    schema: &Schema,
    field: &str,
    pointer: &str,
) -> Result<(usize, Reach)> {
    let at = known_field(schema, field, pointer.to_owned())?;
    let Some(to) = &schema.fields[at].refers_to else {
        let refer: Vec<&str> =
            schema.fields.iter().filter(|f| f.refers_to.is_some()).map(|f| f.name.as_str()).collect();
        let others = match refer.is_empty() {
            true => "no field of this collection does".to_owned(),
            false => format!("these do: {}", refer.join(", ")),
        };
        let detail = format!("field \"{field}\" refers to no collection (refersTo in its schema); {others}");
        return wrong(detail, pointer);
    };
    Ok((at, registry.reach(&reach.grant, Scope::Read, to).map_err(|p| p.at(pointer))?))
}

//! Collections: what a set of records is made of.

use super::*;
use crate::encoders::template_fields;
use crate::live::{Live, Serving};
use crate::routes::indexes::IndexView;
use axum::http::{HeaderMap, HeaderValue, header};
use chrono::{DateTime, Utc};
use serde_json::Value;
use zesty_catalog::{NewCollection, NewVectorColumn, ShapeChange};
use zesty_engine::{Metric, Schema};

/// The most dimensions of a vector column.
pub const MAX_DIMENSIONS: u32 = 16_384;

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CollectionInput {
    /// 1 to 64 of a-z, 0-9, - and _, beginning with a letter
    pub name: String,
    #[serde(default)]
    pub description: String,
    /// JSON Schema (2020-12) of the fields: `{"type": "object", "properties": {...}}`
    #[serde(default)]
    #[schema(value_type = Object)]
    pub fields: Option<Value>,
    /// Where vectors go; columns can be added later
    #[serde(default)]
    pub columns: Vec<ColumnInput>,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ColumnInput {
    pub name: String,
    /// 1 to 16,384; may be left out when an encoder is named
    pub dimensions: Option<u32>,
    /// `cosine` (when absent), `euclidean` or `dot`
    pub metric: Option<String>,
    /// The encoder that makes this column's vectors from text
    pub encoder: Option<String>,
    /// What the encoder reads: field names in braces, such as `{note}`
    pub template: Option<String>,
}

#[derive(Serialize, ToSchema)]
pub struct ColumnView {
    pub name: String,
    pub dimensions: u32,
    #[schema(value_type = String)]
    pub metric: Metric,
    pub encoder: Option<String>,
    pub template: Option<String>,
    /// Records that have a vector here
    pub n_vectors: usize,
    /// What answers searches that name no index; null for the exact scan
    pub serving: Option<ServingChoice>,
    /// Bytes of vectors in memory
    pub n_bytes_memory: usize,
}

#[derive(Serialize, ToSchema)]
pub struct CollectionView {
    pub name: String,
    pub description: String,
    /// JSON Schema (2020-12)
    #[schema(value_type = Object)]
    pub fields: Value,
    pub columns: Vec<ColumnView>,
    /// The column that searches use when they name none; null while there is no column
    pub default_column: Option<String>,
    pub indexes: Vec<IndexView>,
    pub n_records: usize,
    /// Counts every batch that was written
    pub revision: u64,
    pub created_at: DateTime<Utc>,
    /// Counts changes of fields and columns
    pub shape: i64,
}

#[derive(Serialize, ToSchema)]
pub struct CollectionList {
    pub collections: Vec<CollectionView>,
}

pub(crate) fn view(live: &Live) -> CollectionView {
    let table = live.table.load();
    let columns = live
        .columns()
        .iter()
        .enumerate()
        .map(|(i, c)| {
            let vectors = &table.vectors()[i].vectors;
            ColumnView {
                name: c.name.clone(),
                dimensions: c.dimensions,
                metric: live.metrics[i],
                encoder: c.encoder.clone(),
                template: c.template.clone(),
                n_vectors: table.alive().intersection_count(vectors.present()),
                serving: live.serving(i).map(|s| ServingChoice::of(live, s)),
                n_bytes_memory: vectors.n_bytes(),
            }
        })
        .collect();
    CollectionView {
        name: live.name.clone(),
        description: live.collection.about.description.clone(),
        fields: live.collection.about.fields.clone(),
        columns,
        default_column: live.default_column().map(|c| live.columns()[c].name.clone()),
        indexes: indexes::views(live),
        n_records: table.n_records(),
        revision: table.revision(),
        created_at: live.collection.about.created_at,
        shape: live.shape(),
    }
}

/// Create a collection
#[utoipa::path(post, path = "/api/collections", tag = "collections", request_body = CollectionInput,
    responses((status = 201, body = CollectionView), (status = 409, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody)))]
pub async fn create(
    State(hub): Hubbed,
    Input(input): Input<CollectionInput>,
) -> Result<(StatusCode, Json<CollectionView>)> {
    check_name("collection", &input.name, "/name")?;
    let fields = input.fields.unwrap_or_else(|| serde_json::json!({"type": "object", "properties": {}}));
    let schema = checked_schema(&hub, &fields, &input.name)?;
    if input.columns.len() > columns::MAX_COLUMNS {
        return Err(
            Problem::too_many("vector columns", input.columns.len(), columns::MAX_COLUMNS).at("/columns")
        );
    }
    let mut columns: Vec<NewVectorColumn> = Vec::new();
    for (i, column) in input.columns.into_iter().enumerate() {
        let at = format!("/columns/{i}");
        check_name("vector column", &column.name, &format!("{at}/name"))?;
        if columns.iter().any(|c| c.name == column.name) {
            let detail = format!("two vector columns are named \"{}\"", column.name);
            return Err(Problem::new(Kind::InvalidName, detail).at(format!("{at}/name")));
        }
        columns.push(checked_column(&hub, &schema, column, &at).await?);
    }
    let new =
        NewCollection { name: input.name, description: input.description, fields: schema.to_json(), columns };
    let live = hub.create(new).await?;
    Ok((StatusCode::CREATED, Json(view(&live))))
}

/// Reads a schema; collections that it refers to must be there.
fn checked_schema(hub: &Hub, fields: &Value, own: &str) -> Result<Schema> {
    let schema = Schema::from_json(fields)
        .map_err(|e| Problem::new(Kind::InvalidSchema, e.message).at(format!("/fields{}", e.pointer)))?;
    for field in &schema.fields {
        if let Some(to) = field.refers_to.as_deref().filter(|to| *to != own) {
            let at = format!("/fields/properties/{}/refersTo", field.name.replace('.', "/properties/"));
            hub.collection(to).map_err(|p| {
                Problem {
                    detail: format!("{}; create what \"{}\" refers to first", p.detail, field.name),
                    ..p
                }
                .at(at)
            })?;
        }
    }
    Ok(schema)
}

pub(super) async fn checked_column(
    hub: &Hub,
    schema: &Schema,
    column: ColumnInput,
    at: &str,
) -> Result<NewVectorColumn> {
    let wrong =
        |part: &str, detail: String| Err(Problem::new(Kind::WrongShape, detail).at(format!("{at}/{part}")));
    let metric: Metric = match column.metric.as_deref().unwrap_or("cosine").parse() {
        Ok(metric) => metric,
        Err(e) => return wrong("metric", e),
    };
    let mut dimensions = column.dimensions;
    if let Some(name) = &column.encoder {
        let encoders = hub.catalog.encoders().await?;
        let Some(encoder) = encoders.iter().find(|e| e.name == *name) else {
            return Err(Problem::unknown("encoder", name, encoders.iter().map(|e| e.name.as_str()))
                .at(format!("{at}/encoder")));
        };
        let makes = encoder.dimensions;
        match dimensions {
            Some(d) if d != makes => {
                return Err(Problem::new(
                    Kind::WrongVector,
                    format!(
                        "column \"{}\" asks for {d} dimensions, and encoder \"{name}\" makes {makes}; leave \
                         dimensions out, or write {makes}",
                        column.name
                    ),
                )
                .at(format!("{at}/dimensions"))
                .with("expected", makes)
                .with("got", d));
            }
            _ => dimensions = Some(makes),
        }
    }
    let Some(dimensions) = dimensions else {
        return wrong(
            "dimensions",
            format!("column \"{}\" needs dimensions, or an encoder that knows them", column.name),
        );
    };
    if !(1..=MAX_DIMENSIONS).contains(&dimensions) {
        return wrong(
            "dimensions",
            format!("dimensions are {dimensions}; they go from 1 to {MAX_DIMENSIONS}"),
        );
    }
    if let Some(template) = &column.template {
        if column.encoder.is_none() {
            return wrong(
                "template",
                "a template is read by an encoder; name one, or leave the template out".into(),
            );
        }
        match template_fields(template) {
            Err(e) => return wrong("template", format!("template \"{template}\": {e}")),
            Ok(fields) => {
                if let Some(field) = fields.iter().find(|f| !schema.has(f)) {
                    return Err(Problem::unknown("field", field, schema.names()).at(format!("{at}/template")));
                }
            }
        }
    }
    Ok(NewVectorColumn {
        name: column.name,
        dimensions,
        metric: metric.to_string(),
        encoder: column.encoder,
        template: column.template,
    })
}

/// List collections
#[utoipa::path(get, path = "/api/collections", tag = "collections", responses((status = 200, body = CollectionList)))]
pub async fn list(State(hub): Hubbed) -> Json<CollectionList> {
    Json(CollectionList { collections: hub.collections().iter().map(|l| view(l)).collect() })
}

/// Show a collection
#[utoipa::path(get, path = "/api/collections/{collection}", tag = "collections",
    params(("collection" = String, Path)),
    responses((status = 200, body = CollectionView), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn show(State(hub): Hubbed, Path(name): Path<String>) -> Result<(HeaderMap, Json<CollectionView>)> {
    let live = hub.collection(&name)?;
    Ok((etag(live.shape()), Json(view(&live))))
}

/// The version of fields and columns is the entity tag of a collection.
fn etag(shape: i64) -> HeaderMap {
    let value = HeaderValue::from_str(&format!("\"shape-{shape}\"")).expect("digits");
    HeaderMap::from_iter([(header::ETAG, value)])
}

/// The version in `If-Match`, when there is one.
fn if_match(headers: &HeaderMap) -> Result<Option<i64>> {
    let Some(value) = headers.get(header::IF_MATCH) else { return Ok(None) };
    let shape =
        value.to_str().ok().and_then(|v| v.trim().trim_matches('"').strip_prefix("shape-")?.parse().ok());
    shape.map(Some).ok_or_else(|| {
        Problem::new(Kind::WrongShape, "If-Match takes the ETag of the collection, such as \"shape-2\"")
    })
}

/// Delete a collection with its records, vectors and indexes
#[utoipa::path(delete, path = "/api/collections/{collection}", tag = "collections",
    params(("collection" = String, Path)),
    responses((status = 204), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn delete(State(hub): Hubbed, Path(name): Path<String>) -> Result<StatusCode> {
    let live = hub.collection(&name)?;
    for other in hub.collections().iter().filter(|o| o.id != live.id) {
        let table = other.table.load();
        if let Some(field) = table.schema().fields.iter().find(|f| f.refers_to.as_ref() == Some(&name)) {
            let detail = format!(
                "field \"{}\" of \"{}\" refers to \"{name}\"; take the reference away or delete that first",
                field.name, other.name
            );
            return Err(Problem::new(Kind::StillUsed, detail));
        }
    }
    hub.delete(&live).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CollectionPatch {
    pub description: Option<String>,
    /// The whole JSON Schema of the fields: fields can be added, described and widened, not taken away
    #[schema(value_type = Option<Object>)]
    pub fields: Option<Value>,
    /// The column that searches use when they name none
    pub default_column: Option<String>,
}

/// Change a collection's description, fields or default column; records stay as they are
///
/// With `If-Match` the change is refused when fields or columns have changed since. Without it, too, a change of
/// fields is refused when another one came between.
#[utoipa::path(patch, path = "/api/collections/{collection}", tag = "collections",
    params(("collection" = String, Path)),
    request_body(content = CollectionPatch, content_type = "application/merge-patch+json"),
    responses((status = 200, body = CollectionView), (status = 404, body = crate::problem::ProblemBody),
        (status = 409, body = crate::problem::ProblemBody), (status = 412, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody)))]
pub async fn patch(
    State(hub): Hubbed,
    Path(name): Path<String>,
    headers: HeaderMap,
    Input(patch): Input<CollectionPatch>,
) -> Result<(HeaderMap, Json<CollectionView>)> {
    let expected = if_match(&headers)?;
    let mut tries = 0;
    loop {
        let live = hub.collection(&name)?;
        if let Some(expected) = expected.filter(|e| *e != live.shape()) {
            let detail = format!(
                "fields or columns of \"{name}\" have changed: they are at version {} now, not {expected}; read the \
                 collection again",
                live.shape()
            );
            return Err(Problem::new(Kind::Conflict, detail).with("shape", live.shape()));
        }
        let change = checked_change(&hub, &live, &patch)?;
        match hub.reshape(&live, change).await {
            // What does not replace the fields goes with any of them.
            Err(p) if p.kind == Kind::Reshaped && patch.fields.is_none() && tries < 100 => tries += 1,
            Err(p) if p.kind == Kind::Reshaped => {
                let detail = format!(
                    "another change of \"{name}\" came between, and this one would undo it; read the collection again \
                     and repeat the change"
                );
                return Err(Problem { detail, ..p });
            }
            Err(p) => return Err(p),
            Ok(next) => return Ok((etag(next.shape()), Json(view(&next)))),
        }
    }
}

fn checked_change(hub: &Hub, live: &Live, patch: &CollectionPatch) -> Result<ShapeChange> {
    let fields = match &patch.fields {
        None => None,
        Some(fields) => {
            let schema = checked_schema(hub, fields, &live.name)?;
            live.table.load().schema().change_to(&schema).map_err(|e| {
                Problem::new(Kind::InvalidSchema, e.message).at(format!("/fields{}", e.pointer))
            })?;
            Some(schema.to_json())
        }
    };
    if let Some(column) = &patch.default_column {
        live.column(Some(column), "/default_column")?;
    }
    let (description, default_column) = (patch.description.clone(), patch.default_column.clone());
    Ok(ShapeChange::About { description, fields, default_column })
}

/// What one part of a collection takes, in bytes
#[derive(Serialize, ToSchema)]
pub struct CostPart {
    /// `records`, `field`, `vectors` or `index`
    pub part: String,
    pub name: String,
    /// Rows, values or vectors it holds
    pub n: u64,
    /// Bytes stored in MariaDB, without what its tables add
    pub database: u64,
    /// Bytes of files in the data directory
    pub disk: u64,
    /// Bytes in memory; an index's pages are mapped from its file, and count when they are used
    pub memory: u64,
    /// Of an index: the share of living vectors that it holds
    pub coverage: Option<f64>,
}

#[derive(Serialize, ToSchema)]
pub struct CostView {
    pub parts: Vec<CostPart>,
    pub database: u64,
    pub disk: u64,
    pub memory: u64,
    /// When a record was last written or deleted
    pub written_at: Option<DateTime<Utc>>,
    pub revision: u64,
}

/// What a collection costs: bytes in MariaDB, on disk and in memory, part by part
#[utoipa::path(get, path = "/api/collections/{collection}/costs", tag = "collections",
    params(("collection" = String, Path)),
    responses((status = 200, body = CostView), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn costs(State(hub): Hubbed, Path(name): Path<String>) -> Result<Json<CostView>> {
    let live = hub.collection(&name)?;
    let table = live.table.load_full();
    let part = |part: &str, name: &str, n: u64, database: u64, disk: u64, memory: usize| CostPart {
        part: part.into(),
        name: name.into(),
        n,
        database,
        disk,
        memory: memory as u64,
        coverage: None,
    };
    let (n, bytes) = hub.catalog.record_bytes(live.id).await?;
    let mut parts = vec![part("records", "keys and fields", n, bytes, 0, table.n_bytes_keys())];
    for (i, field) in table.schema().fields.iter().enumerate() {
        let mut present = table.alive().to_set();
        present.difference_with(&table.missing(i));
        let n = present.count_ones(..) as u64;
        parts.push(part("field", &field.name, n, 0, 0, table.column(i).n_bytes()));
    }
    for (column, held) in live.columns().iter().zip(table.vectors()) {
        let (n, bytes) = hub.catalog.vector_bytes(column.id).await?;
        parts.push(part("vectors", &column.name, n, bytes, 0, held.vectors.n_bytes()));
    }
    for index in indexes::views(&live) {
        let memory = index.n_bytes_vectors + index.n_bytes_structure;
        let covered = (index.n_rows as usize).saturating_sub(index.n_dead);
        let all = covered + index.n_uncovered;
        let mut part = part("index", &index.name, index.n_rows as u64, 0, index.n_bytes_file as u64, memory);
        part.coverage = (all > 0).then(|| covered as f64 / all as f64);
        parts.push(part);
    }
    let written_at = hub.catalog.collection(live.id).await?.about.written_at;
    Ok(Json(CostView {
        database: parts.iter().map(|p| p.database).sum(),
        disk: parts.iter().map(|p| p.disk).sum(),
        memory: parts.iter().map(|p| p.memory).sum(),
        parts,
        written_at,
        revision: table.revision(),
    }))
}

/// Which index answers searches that name none, and how
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ServingChoice {
    pub index: String,
    pub settings: SettingsInput,
}

impl ServingChoice {
    fn of(live: &Live, serving: Serving) -> ServingChoice {
        let index = live.index(&serving.index).ok();
        let recipe = index.map(|i| i.model.recipe.clone()).unwrap_or_default();
        ServingChoice { index: serving.index, settings: SettingsInput::of(&recipe, serving.settings) }
    }
}

/// Make an index and its settings the serving choice of a vector column
#[utoipa::path(put, path = "/api/collections/{collection}/columns/{column}/serving", tag = "indexes",
    params(("collection" = String, Path), ("column" = String, Path)), request_body = ServingChoice,
    responses((status = 200, body = CollectionView), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn serve(
    State(hub): Hubbed,
    Path((name, column)): Path<(String, String)>,
    Input(choice): Input<ServingChoice>,
) -> Result<Json<CollectionView>> {
    let live = hub.collection(&name)?;
    let at = live.column(Some(&column), "")?;
    let serving = Serving { index: choice.index, settings: choice.settings.check("/settings")? };
    let index = live.index(&serving.index).map_err(|p| p.at("/index"))?;
    if live.position(&index) != Some(at) {
        let detail = format!("index \"{}\" is not built over column \"{column}\"", serving.index);
        return Err(Problem::new(Kind::WrongShape, detail).at("/index"));
    }
    if index.attached.is_none() {
        return Err(indexes::not_ready(&index).at("/index"));
    }
    live.set_serving(&hub, at, Some(serving)).await?;
    Ok(Json(view(&live)))
}

/// Answer searches of a vector column by the exact scan
#[utoipa::path(delete, path = "/api/collections/{collection}/columns/{column}/serving", tag = "indexes",
    params(("collection" = String, Path), ("column" = String, Path)),
    responses((status = 200, body = CollectionView), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn serve_exact(
    State(hub): Hubbed,
    Path((name, column)): Path<(String, String)>,
) -> Result<Json<CollectionView>> {
    let live = hub.collection(&name)?;
    let at = live.column(Some(&column), "")?;
    live.set_serving(&hub, at, None).await?;
    Ok(Json(view(&live)))
}

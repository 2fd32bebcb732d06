//! Vector columns: added later, filled from an encoder, chosen, dropped.

use super::collections::{CollectionView, ColumnInput, checked_column, view};
use super::*;
use crate::jobs::JobView;
use crate::loads::fill_column;
use axum::extract::Query;
use zesty_catalog::ShapeChange;

/// Add a vector column to a collection that has records
#[utoipa::path(post, path = "/api/collections/{collection}/columns", tag = "columns",
    params(("collection" = String, Path)), request_body = ColumnInput,
    responses((status = 201, body = CollectionView), (status = 409, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody)))]
pub async fn add(
    State(hub): Hubbed,
    Path(name): Path<String>,
    Input(input): Input<ColumnInput>,
) -> Result<(StatusCode, Json<CollectionView>)> {
    let live = hub.collection(&name)?;
    check_name("vector column", &input.name, "/name")?;
    if live.columns().len() == MAX_COLUMNS {
        let detail = format!("a collection takes up to {MAX_COLUMNS} vector columns");
        return Err(Problem::new(Kind::WrongShape, detail));
    }
    let column = checked_column(&hub, live.table.load().schema(), input, "").await?;
    let live = hub.reshape(&live, ShapeChange::AddColumn(column)).await?;
    Ok((StatusCode::CREATED, Json(view(&live))))
}

/// The most vector columns of a collection.
pub const MAX_COLUMNS: usize = 16;

/// Fill a column from its encoder, as a job: every record that has a text and no vector gets one
#[utoipa::path(post, path = "/api/collections/{collection}/columns/{column}/fill", tag = "columns",
    params(("collection" = String, Path), ("column" = String, Path)),
    responses((status = 202, body = JobView), (status = 422, body = crate::problem::ProblemBody)))]
pub async fn fill(
    State(hub): Hubbed,
    Path((name, column)): Path<(String, String)>,
) -> Result<(StatusCode, Json<JobView>)> {
    let live = hub.collection(&name)?;
    let about = &live.columns()[live.column(Some(&column), "")?];
    if about.encoder.is_none() || about.template.is_none() {
        let detail = format!("column \"{column}\" has no encoder with a template; load its vectors instead");
        return Err(Problem::new(Kind::NoEncoder, detail));
    }
    let (work_hub, id, collection) = (hub.clone(), about.id, name.clone());
    let job = hub
        .jobs
        .start(&hub.catalog, &hub.node, "fill", &name, &column, move |job| async move {
            fill_column(&work_hub, &collection, id, &job).await
        })
        .await?;
    Ok((StatusCode::ACCEPTED, Json(job.view())))
}

/// A record whose text the encoder would not take
#[derive(Serialize, ToSchema)]
pub struct Unencoded {
    pub key: String,
    pub reason: String,
}

#[derive(Serialize, ToSchema)]
pub struct UnencodedList {
    /// Records that have no vector in the column, whatever the reason
    pub n_without_vector: usize,
    pub records: Vec<Unencoded>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UnencodedQuery {
    limit: Option<u64>,
}

/// List records that could not be encoded, with the reason
#[utoipa::path(get, path = "/api/collections/{collection}/columns/{column}/unencoded", tag = "columns",
    params(("collection" = String, Path), ("column" = String, Path),
        ("limit" = Option<u64>, Query, description = "1 to 1000, 100 when absent")),
    responses((status = 200, body = UnencodedList)))]
pub async fn unencoded(
    State(hub): Hubbed,
    Path((name, column)): Path<(String, String)>,
    Query(query): Query<UnencodedQuery>,
) -> Result<Json<UnencodedList>> {
    let live = hub.collection(&name)?;
    let at = live.column(Some(&column), "")?;
    let found =
        hub.catalog.unencoded(live.columns()[at].id, query.limit.unwrap_or(100).clamp(1, 1000)).await?;
    let numbers: Vec<u64> = found.iter().map(|(n, _)| *n).collect();
    let mut reasons: std::collections::HashMap<u64, String> = found.into_iter().collect();
    let records = hub.catalog.records(live.id, &numbers).await?;
    let records = records
        .into_iter()
        .filter_map(|r| Some(Unencoded { reason: reasons.remove(&r.number)?, key: r.key }));
    let table = live.table.load();
    let with = table.alive().intersection_count(table.vectors()[at].vectors.present());
    Ok(Json(UnencodedList { n_without_vector: table.n_records() - with, records: records.collect() }))
}

/// Drop a vector column with its vectors, indexes and sweeps
#[utoipa::path(delete, path = "/api/collections/{collection}/columns/{column}", tag = "columns",
    params(("collection" = String, Path), ("column" = String, Path)),
    responses((status = 200, body = CollectionView), (status = 409, body = crate::problem::ProblemBody)))]
pub async fn drop_column(
    State(hub): Hubbed,
    Path((name, column)): Path<(String, String)>,
) -> Result<Json<CollectionView>> {
    let live = hub.collection(&name)?;
    let at = live.column(Some(&column), "")?;
    let refuse = |detail: String| Err(Problem::new(Kind::StillUsed, detail));
    if live.columns().len() == 1 {
        return refuse(format!("\"{column}\" is the only vector column; add another one first"));
    }
    if live.default_column() == Some(at) {
        return refuse(format!(
            "searches that name no column use \"{column}\"; choose another default column first"
        ));
    }
    let id = live.columns()[at].id;
    let building = |i: &Arc<crate::live::LiveIndex>| i.model.column_id == id && i.model.state == "building";
    if let Some(index) = live.kept.indexes.load().iter().find(|i| building(i)) {
        return refuse(format!("index \"{}\" of it is being built; cancel its job first", index.model.name));
    }
    let live = hub.reshape(&live, ShapeChange::DropColumn(id)).await?;
    hub.clear_later();
    Ok(Json(view(&live)))
}

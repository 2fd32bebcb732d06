//! Saved searches: `/api/collections/{collection}/saved-searches`.

use crate::access::grant::Grant;
use crate::http::answer::{Answer, Json};
use crate::http::app::App;
use crate::http::body::{Input, Queued};
use crate::http::inputs::{Named, Params};
use crate::node::lanes::Place;
use crate::problem::Result;
use crate::search::saved::cases::{self, Given};
use axum::extract::State;
use axum::http::StatusCode;
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;
use zesty_wire as wire;
use zesty_wire::problem::Problem;

/// List the saved searches of a collection; a key that may only ask sees those that answer
#[utoipa::path(get, path = "/api/collections/{collection}/saved-searches", tag = "saved searches",
    params(("collection" = String, Path)),
    responses((status = 200, body = wire::SavedList), (status = 404, body = Problem)))]
pub async fn list(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named(collection): Named<String>,
) -> Answer<wire::SavedList> {
    cases::list(&grant, &app.registry, &collection).await.map(Json)
}

/// Show a saved search and its versions
#[utoipa::path(get, path = "/api/collections/{collection}/saved-searches/{name}", tag = "saved searches",
    params(("collection" = String, Path), ("name" = String, Path)),
    responses((status = 200, body = wire::SavedSearch), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, name)): Named<(String, String)>,
) -> Answer<wire::SavedSearch> {
    cases::show(&grant, &app.registry, (&collection, &name)).await.map(Json)
}

/// Save a search: a new version, which answers once it is made live
#[utoipa::path(put, path = "/api/collections/{collection}/saved-searches/{name}", tag = "saved searches",
    params(("collection" = String, Path), ("name" = String, Path)), request_body = wire::SavedDefinition,
    responses((status = 200, body = wire::SavedSearch), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn save(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, name)): Named<(String, String)>,
    Input(definition): Input<wire::SavedDefinition>,
) -> Answer<wire::SavedSearch> {
    cases::save(&grant, &app.registry, (&collection, &name), definition).await.map(Json)
}

/// Remove a saved search with all of its versions
#[utoipa::path(delete, path = "/api/collections/{collection}/saved-searches/{name}", tag = "saved searches",
    params(("collection" = String, Path), ("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, name)): Named<(String, String)>,
) -> Result<StatusCode> {
    cases::remove(&grant, &app.registry, (&collection, &name)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Make a version of a saved search the one that answers: a newer one, or an older one to go back
#[utoipa::path(put, path = "/api/collections/{collection}/saved-searches/{name}/live", tag = "saved searches",
    params(("collection" = String, Path), ("name" = String, Path)), request_body = wire::LiveVersion,
    responses((status = 200, body = wire::SavedSearch), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn set_live(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, name)): Named<(String, String)>,
    Input(live): Input<wire::LiveVersion>,
) -> Answer<wire::SavedSearch> {
    cases::set_live(&grant, &app.registry, (&collection, &name), live.version).await.map(Json)
}

/// Let no version of a saved search answer
#[utoipa::path(delete, path = "/api/collections/{collection}/saved-searches/{name}/live", tag = "saved searches",
    params(("collection" = String, Path), ("name" = String, Path)),
    responses((status = 200, body = wire::SavedSearch), (status = 404, body = Problem)))]
pub async fn withdraw(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, name)): Named<(String, String)>,
) -> Answer<wire::SavedSearch> {
    cases::withdraw(&grant, &app.registry, (&collection, &name)).await.map(Json)
}

/// Show how a saved search fared: its traffic, latency and observed recall
#[utoipa::path(get, path = "/api/collections/{collection}/saved-searches/{name}/traffic", tag = "saved searches",
    params(("collection" = String, Path), ("name" = String, Path)),
    responses((status = 200, body = wire::SavedTraffic), (status = 404, body = Problem)))]
pub async fn traffic(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, name)): Named<(String, String)>,
) -> Answer<wire::SavedTraffic> {
    cases::traffic(&grant, &app.registry, &app.metrics, (&collection, &name)).await.map(Json)
}

async fn answer(
    (app, grant, place): (&App, &Grant, &Place),
    of: (&str, &str, Option<i32>),
    given: Given,
) -> Answer<wire::SearchAnswer> {
    cases::ask(grant, &app.registry, &app.encoders, (&app.metrics, place), of, given).await.map(Json)
}

/// Ask a saved search, with its parameters in the query
///
/// An array of numbers stands with commas between them; an array of strings as several parameters of one name
#[utoipa::path(get, path = "/api/collections/{collection}/saved-searches/{name}/search", tag = "saved searches",
    params(("collection" = String, Path), ("name" = String, Path),
        ("parameters" = Option<Object>, Query, style = Form, explode, description = "Its parameters")),
    responses((status = 200, body = wire::SearchAnswer), (status = 404, body = Problem), (status = 422, body = Problem),
        (status = 502, body = Problem)))]
pub async fn ask_by_query(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, name)): Named<(String, String)>,
    Params(given): Params<Vec<(String, String)>>,
) -> Answer<wire::SearchAnswer> {
    let place = app.lanes.admit(&app.lanes.searches)?;
    answer((&app, &grant, &place), (&collection, &name, None), Given::Texts(given)).await
}

/// Ask a saved search, with its parameters as members of an object
#[utoipa::path(post, path = "/api/collections/{collection}/saved-searches/{name}/search", tag = "saved searches",
    params(("collection" = String, Path), ("name" = String, Path)), request_body = Object,
    responses((status = 200, body = wire::SearchAnswer), (status = 404, body = Problem), (status = 422, body = Problem),
        (status = 502, body = Problem)))]
pub async fn ask(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, name)): Named<(String, String)>,
    Queued(given, place): Queued<BTreeMap<String, Value>>,
) -> Answer<wire::SearchAnswer> {
    answer((&app, &grant, &place), (&collection, &name, None), Given::Json(given)).await
}

/// Try a version of a saved search before it is made live, with its parameters in the query
#[utoipa::path(get, path = "/api/collections/{collection}/saved-searches/{name}/versions/{version}/search",
    tag = "saved searches",
    params(("collection" = String, Path), ("name" = String, Path), ("version" = i32, Path),
        ("parameters" = Option<Object>, Query, style = Form, explode, description = "Its parameters")),
    responses((status = 200, body = wire::SearchAnswer), (status = 404, body = Problem), (status = 422, body = Problem),
        (status = 502, body = Problem)))]
pub async fn try_by_query(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, name, version)): Named<(String, String, i32)>,
    Params(given): Params<Vec<(String, String)>>,
) -> Answer<wire::SearchAnswer> {
    let place = app.lanes.admit(&app.lanes.searches)?;
    answer((&app, &grant, &place), (&collection, &name, Some(version)), Given::Texts(given)).await
}

/// Try a version of a saved search before it is made live
#[utoipa::path(post, path = "/api/collections/{collection}/saved-searches/{name}/versions/{version}/search",
    tag = "saved searches", request_body = Object,
    params(("collection" = String, Path), ("name" = String, Path), ("version" = i32, Path)),
    responses((status = 200, body = wire::SearchAnswer), (status = 404, body = Problem), (status = 422, body = Problem),
        (status = 502, body = Problem)))]
pub async fn try_version(
    State(app): State<Arc<App>>,
    grant: Grant,
    Named((collection, name, version)): Named<(String, String, i32)>,
    Queued(given, place): Queued<BTreeMap<String, Value>>,
) -> Answer<wire::SearchAnswer> {
    answer((&app, &grant, &place), (&collection, &name, Some(version)), Given::Json(given)).await
}

//! Uploaded files: announced, sent, looked into.

use super::*;
use crate::uploads::FileView;
use axum::body::Body;
use axum::extract::Query;
use serde_json::Value;
use std::collections::BTreeMap;
use zesty_files::{FileError, Inspection};

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FileInput {
    /// The file's name; its end says the format
    pub name: String,
    /// Its size, where it is known: a file of another size is refused
    pub bytes: Option<u64>,
}

#[derive(Serialize, ToSchema)]
pub struct FileList {
    /// Newest first
    pub files: Vec<FileView>,
}

#[derive(Serialize, ToSchema)]
pub struct InspectionView {
    /// Fields and vector columns found in the first rows, their types, examples and counts
    #[schema(value_type = Object)]
    #[serde(flatten)]
    pub found: Inspection,
    /// JSON Schema of the fields
    #[schema(value_type = Object)]
    pub schema: Value,
    /// What a load must say to put the file into a collection made from it
    #[schema(value_type = Object)]
    pub mapping: zesty_files::Mapping,
}

pub(crate) fn wrong_file(error: FileError) -> Problem {
    Problem::new(Kind::WrongFile, error.to_string()).with("file", error.file)
}

/// Announce a file to be uploaded
#[utoipa::path(post, path = "/api/files", tag = "loads", request_body = FileInput,
    responses((status = 201, body = FileView), (status = 422, body = crate::problem::ProblemBody)))]
pub async fn announce(
    State(hub): Hubbed,
    Input(input): Input<FileInput>,
) -> Result<(StatusCode, Json<FileView>)> {
    let name = input.name.rsplit(['/', '\\']).next().unwrap_or("").trim().to_owned();
    if name.is_empty() || name.len() > 255 || name.chars().any(char::is_control) {
        let detail = format!("\"{}\" names no file; a name is 1 to 255 bytes", input.name);
        return Err(Problem::new(Kind::InvalidName, detail).at("/name"));
    }
    Ok((StatusCode::CREATED, Json(hub.uploads.announce(name, input.bytes)?)))
}

/// List uploaded files that no load has finished with
#[utoipa::path(get, path = "/api/files", tag = "loads", responses((status = 200, body = FileList)))]
pub async fn list(State(hub): Hubbed) -> Json<FileList> {
    Json(FileList { files: hub.uploads.list() })
}

/// Show how much of a file is here
#[utoipa::path(get, path = "/api/files/{file}", tag = "loads", params(("file" = String, Path)),
    responses((status = 200, body = FileView), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn show(State(hub): Hubbed, Path(id): Path<String>) -> Result<Json<FileView>> {
    Ok(Json(hub.uploads.get(&id)?))
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ContentQuery {
    #[serde(default)]
    offset: u64,
    #[serde(default)]
    end: bool,
}

/// Send a file, or the rest of one that broke off
#[utoipa::path(put, path = "/api/files/{file}/content", tag = "loads",
    params(("file" = String, Path), ("offset" = Option<u64>, Query, description = "bytes that are there already"),
        ("end" = Option<bool>, Query, description = "the body's end is the file's end, also when its size was not announced")),
    request_body(content = String, content_type = "application/octet-stream"),
    responses((status = 200, body = FileView), (status = 409, body = crate::problem::ProblemBody),
        (status = 422, body = crate::problem::ProblemBody)))]
pub async fn send(
    State(hub): Hubbed,
    Path(id): Path<String>,
    Query(query): Query<ContentQuery>,
    body: Body,
) -> Result<Json<FileView>> {
    Ok(Json(hub.uploads.append(&id, query.offset, query.end, body).await?))
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct InspectionQuery {
    types: Option<String>,
}

/// Look into an uploaded file: fields, types, examples, vectors
///
/// A column with values of several types says what is odd, and what each type would reject of the rows that were looked
/// at. With `types` the whole file is read, and what the chosen types would reject is counted.
#[utoipa::path(get, path = "/api/files/{file}/inspection", tag = "loads",
    params(("file" = String, Path),
        ("types" = Option<String>, Query, description = "JSON: column of the file to type, such as {\"added\":\"date\"}")),
    responses((status = 200, body = InspectionView), (status = 422, body = crate::problem::ProblemBody)))]
pub async fn inspect(
    State(hub): Hubbed,
    Path(id): Path<String>,
    Query(query): Query<InspectionQuery>,
) -> Result<Json<InspectionView>> {
    let (named, limits) = (hub.uploads.named(&id)?, hub.limits);
    let types: BTreeMap<String, String> = match query.types {
        None => BTreeMap::new(),
        Some(text) => serde_json::from_str(&text).map_err(|e| {
            let detail =
                format!("types is a JSON object, column to type, such as {{\"added\": \"date\"}}: {e}");
            Problem::new(Kind::WrongShape, detail).at("/types")
        })?,
    };
    let found = blocking(move || zesty_files::inspect_as(&named, limits, &types).map_err(wrong_file)).await?;
    Ok(Json(InspectionView { schema: found.schema(), mapping: found.mapping(), found }))
}

/// Forget an uploaded file
#[utoipa::path(delete, path = "/api/files/{file}", tag = "loads", params(("file" = String, Path)),
    responses((status = 204), (status = 404, body = crate::problem::ProblemBody)))]
pub async fn remove(State(hub): Hubbed, Path(id): Path<String>) -> Result<StatusCode> {
    let file = hub.uploads.get(&id)?;
    hub.uploads.remove(&file.id);
    Ok(StatusCode::NO_CONTENT)
}

//! The router: every route, its description, and what is around them.

use crate::access::grant::Grant;
use crate::http::app::App;
use crate::http::authentication::sign_in;
use crate::http::console;
use crate::http::document;
use crate::http::gates::{self, Taken};
use crate::http::routes::{
    advice, collections, columns, comparisons, files, health, indexes, jobs, keys, lens, loads, measurements,
    query_sets, records, saved, search, service, sweeps, targets, watches,
};
use crate::search::saved::cases;
use axum::extract::State;
use axum::http::{HeaderName, header};
use axum::routing::get;
use axum::{Router, middleware};
use bytes::Bytes;
use serde_json::Value;
use std::sync::Arc;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

/// The description of every route, as served at `/api/openapi.json`.
pub fn openapi() -> Value {
    let (keyed, open) = (described().split_for_parts().1, open_routes().split_for_parts().1);
    document::document(keyed, open)
}

/// What answers without a key.
fn open_routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(health::live)).routes(routes!(health::ready))
}

fn described() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(collections::list, collections::create))
        .routes(routes!(collections::show, collections::patch, collections::delete))
        .routes(routes!(collections::costs))
        .routes(routes!(collections::rename))
        .routes(routes!(collections::swap))
        .routes(routes!(collections::clone))
        .routes(routes!(collections::dropped))
        .routes(routes!(collections::purge))
        .routes(routes!(collections::restore))
        .routes(routes!(collections::serve, collections::serve_exact))
        .routes(routes!(columns::add))
        .routes(routes!(columns::drop_column))
        .routes(routes!(columns::backfill))
        .routes(routes!(columns::unencoded))
        .routes(routes!(files::list, files::announce))
        .routes(routes!(files::show, files::remove))
        .routes(routes!(files::send))
        .routes(routes!(files::inspect))
        .routes(routes!(loads::list, loads::create))
        .routes(routes!(loads::show))
        .routes(routes!(loads::resume))
        .routes(routes!(loads::rejects))
        .routes(routes!(records::page, records::write))
        .routes(routes!(records::show, records::patch, records::delete))
        .routes(routes!(records::delete_many))
        .routes(routes!(records::patch_many))
        .routes(routes!(records::fields))
        .routes(routes!(records::export))
        .routes(routes!(search::search))
        .routes(routes!(search::search_many))
        .routes(routes!(saved::list))
        .routes(routes!(saved::show, saved::save, saved::remove))
        .routes(routes!(saved::set_live, saved::withdraw))
        .routes(routes!(saved::traffic))
        .routes(routes!(saved::ask_by_query, saved::ask))
        .routes(routes!(saved::try_by_query, saved::try_version))
        .routes(routes!(search::read_filter))
        .routes(routes!(search::queryables))
        .routes(routes!(indexes::list, indexes::create))
        .routes(routes!(indexes::delete))
        .routes(routes!(indexes::absorb))
        .routes(routes!(indexes::load, indexes::unload))
        .routes(routes!(indexes::explain))
        .routes(routes!(query_sets::list, query_sets::create))
        .routes(routes!(query_sets::show, query_sets::delete))
        .routes(routes!(query_sets::queries))
        .routes(routes!(query_sets::answer))
        .routes(routes!(sweeps::list, sweeps::create))
        .routes(routes!(sweeps::show, sweeps::delete))
        .routes(routes!(measurements::report))
        .routes(routes!(targets::list, targets::create))
        .routes(routes!(targets::show, targets::delete))
        .routes(routes!(advice::list, advice::create))
        .routes(routes!(advice::show, advice::delete))
        .routes(routes!(comparisons::list, comparisons::create))
        .routes(routes!(comparisons::show, comparisons::delete))
        .routes(routes!(comparisons::queries))
        .routes(routes!(comparisons::query))
        .routes(routes!(comparisons::judge))
        .routes(routes!(lens::look))
        .routes(routes!(lens::draw))
        .routes(routes!(watches::show, watches::set))
        .routes(routes!(watches::forget))
        .routes(routes!(jobs::list))
        .routes(routes!(jobs::show))
        .routes(routes!(jobs::events))
        .routes(routes!(jobs::cancel))
        .routes(routes!(service::encoders))
        .routes(routes!(service::put_encoder, service::remove_encoder))
        .routes(routes!(service::service))
        .routes(routes!(service::pulse))
        .routes(routes!(service::examination))
        .routes(routes!(service::metrics))
        .routes(routes!(keys::list, keys::create))
        .routes(routes!(keys::change, keys::remove))
        .routes(routes!(keys::rotate))
        .routes(routes!(keys::own))
        .routes(routes!(keys::audit))
        .routes(routes!(service::sign_in_link))
        .routes(routes!(service::sign_out))
}

/// The document without saved searches, written once: every connection shares it.
struct Document {
    openapi: Value,
    bytes: Bytes,
}

/// The document, with the saved searches that a key may ask.
async fn served(
    State(app): State<Arc<App>>,
    grant: Grant,
    document: Arc<Document>,
) -> ([(HeaderName, &'static str); 1], Bytes) {
    let saved = cases::answering(&grant, &app.registry);
    let bytes = match saved.is_empty() {
        true => document.bytes.clone(),
        false => {
            let with = document::with_saved(document.openapi.clone(), &saved);
            Bytes::from(serde_json::to_vec(&with).expect("plain data"))
        }
    };
    ([(header::CONTENT_TYPE, "application/json")], bytes)
}

/// The whole router.
pub fn router(app: Arc<App>) -> Router {
    let (routes, _) = described().split_for_parts();
    let open = open_routes().split_for_parts().0.route("/sign-in/{ticket}", get(sign_in));
    let open = open
        .method_not_allowed_fallback(console::wrong_method)
        .layer(middleware::from_fn_with_state(app.clone(), gates::open));
    let openapi = openapi();
    let (parameters, methods) = (document::parameters(&openapi), document::methods(&openapi));
    let taken = Arc::new(Taken { parameters, methods });
    let document =
        Arc::new(Document { bytes: Bytes::from(serde_json::to_vec(&openapi).expect("plain data")), openapi });
    routes
        .route("/api/openapi.json", get(move |app, grant| served(app, grant, document)))
        .fallback(console::file)
        .method_not_allowed_fallback(console::wrong_method)
        .layer(middleware::from_fn_with_state((app.clone(), taken), gates::keyed))
        .merge(open)
        .with_state(app)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::access::audit::Audit;
    use crate::access::keys::Keys;
    use crate::access::rates::Rates;
    use crate::collections::registry::{Parts, Registry};
    use crate::http::bodies::Bodies;
    use crate::http::running::Running;
    use crate::node::database::Silence;
    use crate::node::encoders::Encoders;
    use crate::node::folder::DataFolder;
    use crate::node::hosts::Hosts;
    use crate::node::jobs::Jobs;
    use crate::node::lanes::{LaneSizes, Lanes};
    use crate::node::metrics::Metrics;
    use crate::node::uploads::Uploads;
    use axum::Extension;
    use axum::body::Body;
    use axum::http::StatusCode;
    use serde_json::{Map, Value, json};
    use std::time::{Duration, Instant};
    use tower::ServiceExt;
    use zesty_catalog::Catalog;

    /// A service whose database is not there: a use case that goes on without a grant fails by it.
    fn app(folder: &std::path::Path) -> Arc<App> {
        let catalog = Catalog::lazy("mysql://nobody@127.0.0.1:1/nothing", Duration::from_secs(1)).unwrap();
        let (folder, silence) = (DataFolder::create(folder).unwrap(), Silence::default());
        let metrics = Arc::new(Metrics::default());
        let node = "here".to_owned();
        let lanes = Lanes::new(LaneSizes::of_cores(1)).unwrap();
        Arc::new(App {
            keys: Arc::new(Keys::new(catalog.clone(), silence.clone())),
            audit: Arc::new(Audit::new(catalog.clone())),
            encoders: Arc::new(Encoders::new(
                catalog.clone(),
                silence.clone(),
                Hosts::default(),
                metrics.clone(),
            )),
            uploads: Arc::new(Uploads::new(folder.uploads(), zesty_files::Limits::default())),
            metrics,
            bodies: Bodies::default(),
            rates: Rates::default(),
            running: Running::default(),
            started: Instant::now(),
            behind_tls: false,
            stopping: tokio::sync::watch::channel(false).1,
            registry: Arc::new(Registry::new(Parts {
                jobs: Arc::new(Jobs::new(catalog.clone(), node.clone(), lanes.searches.clone())),
                catalog,
                silence,
                node,
                folder,
                threads: 1,
                memory_budget: None,
                large_pages: 0,
                restore_days: 7,
            })),
            lanes,
        })
    }

    /// The smallest value that fits a schema.
    fn example(schema: &Value, all: &Value) -> Value {
        if let Some(name) = schema["$ref"].as_str().and_then(|r| r.rsplit('/').next()) {
            return example(&all[name], all);
        }
        if let Some(first) = schema["oneOf"].get(0).or(schema["enum"].get(0)) {
            return if first.is_object() { example(first, all) } else { first.clone() };
        }
        let kind = schema["type"].as_str().or(schema["type"][0].as_str());
        match kind {
            Some("string") => json!("x"),
            Some("integer" | "number") => json!(1),
            Some("boolean") => json!(false),
            Some("array") => json!([]),
            _ => {
                let required = schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str);
                let member = |name: &str| (name.to_owned(), example(&schema["properties"][name], all));
                Value::Object(required.map(member).collect::<Map<_, _>>())
            }
        }
    }

    #[tokio::test]
    async fn no_route_reaches_its_use_case_without_a_grant() {
        let folder = tempfile::tempdir().unwrap();
        let document = openapi();
        let routes = described().split_for_parts().0;
        let routes = routes.layer(Extension(Grant::nothing())).with_state(app(folder.path()));
        let schemas = &document["components"]["schemas"];
        let mut n = 0;
        // What a key is told of itself needs no scope.
        let asked = document["paths"]
            .as_object()
            .unwrap()
            .iter()
            .filter(|(path, _)| *path != "/api/key" && !path.starts_with("/health"));
        for (path, methods) in asked {
            for (method, about) in methods.as_object().unwrap() {
                let parameters = about["parameters"].as_array().map_or(&[][..], Vec::as_slice);
                let concrete = path.split('/').map(|step| {
                    let Some(name) = step.strip_prefix('{').and_then(|s| s.strip_suffix('}')) else {
                        return step;
                    };
                    let known = parameters.iter().find(|p| p["name"] == name);
                    if known.is_some_and(|p| p["schema"]["type"] == "integer") { "1" } else { "x" }
                });
                let path = concrete.collect::<Vec<_>>().join("/");
                let content = about["requestBody"]["content"].as_object();
                let content = content.and_then(|c| c.iter().next());
                let mut request =
                    axum::http::Request::builder().method(method.to_uppercase().as_str()).uri(&path);
                let mut body = Body::empty();
                if let Some((media, content)) = content {
                    request = request.header("content-type", media);
                    body = Body::from(example(&content["schema"], schemas).to_string());
                }
                let answer = routes.clone().oneshot(request.body(body).unwrap()).await.unwrap();
                let refusal = answer.extensions().get::<crate::problem::Problem>().map(|p| p.detail.clone());
                assert_eq!(answer.status(), StatusCode::FORBIDDEN, "{method} {path}: {refusal:?}");
                n += 1;
            }
        }
        assert!(n > 45, "{n} routes");
    }

    #[test]
    fn ids_of_operations_are_unique() {
        let document = openapi();
        let methods = document["paths"].as_object().unwrap().values().flat_map(|m| m.as_object().unwrap());
        let ids: Vec<_> =
            methods.map(|(_, about)| about["operationId"].as_str().unwrap().to_owned()).collect();
        let different: std::collections::HashSet<_> = ids.iter().collect();
        assert_eq!(different.len(), ids.len(), "{ids:?}");
    }

    #[tokio::test]
    async fn a_route_that_is_reached_without_a_key_refuses() {
        let folder = tempfile::tempdir().unwrap();
        let routes = described().split_for_parts().0.with_state(app(folder.path()));
        let request = axum::http::Request::builder().uri("/api/collections").body(Body::empty()).unwrap();
        let answer = routes.oneshot(request).await.unwrap();
        assert_eq!(answer.status(), StatusCode::INTERNAL_SERVER_ERROR);
    }
}

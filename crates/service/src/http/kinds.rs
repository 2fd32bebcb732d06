//! What a route does, told by its method and path: for the lanes, the audit list and the OpenAPI document.

use axum::http::Method;

/// Routes that are read with POST, because their questions are too long for an address.
const READ_BY_POST: [&str; 6] = ["search", "searches", "filter", "lens", "map", "explanation"];

/// The last step of a route's path.
pub fn last_step(route: &str) -> &str {
    route.rsplit('/').next().unwrap_or_default()
}

/// Whether requests of a method have no body and change nothing.
pub fn is_plain_read(method: &Method) -> bool {
    matches!(*method, Method::GET | Method::HEAD | Method::OPTIONS)
}

/// Whether a route changes nothing.
pub fn reads(method: &Method, route: &str) -> bool {
    is_plain_read(method) || *method == Method::POST && READ_BY_POST.contains(&last_step(route))
}

/// Whether a path, of a route or a request, is that of searches.
pub fn is_search(path: &str) -> bool {
    matches!(last_step(path), "search" | "searches")
}

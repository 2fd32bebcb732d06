//! Refusals of searches before anything of them is read. They are written once, but for the id of the request: a refusal
//! has to cost next to nothing, so that the cores are left to what was taken.

use crate::http::answer::{REQUEST_ID, write_body};
use crate::http::browser::set_headers;
use crate::node::lanes::Lane;
use crate::node::random::random_hex;
use crate::problem::Problem;
use axum::body::Body;
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use http_body_util::BodyExt;

/// A refusal that lacks its request's id.
struct Written {
    status: StatusCode,
    headers: HeaderMap,
    /// The body around the id.
    parts: [String; 2],
}

impl Written {
    async fn of(problem: Problem) -> Written {
        let id = random_hex(8);
        let mut response = problem.clone().into_response();
        write_body(&mut response, &problem, &id);
        set_headers(response.headers_mut());
        let (head, body) = response.into_parts();
        let body = body.collect().await.map(|whole| whole.to_bytes()).unwrap_or_default();
        let text = String::from_utf8_lossy(&body);
        let (before, after) = text.split_once(&id).unwrap_or((&text, ""));
        Written { status: head.status, headers: head.headers, parts: [before.into(), after.into()] }
    }

    fn response(&self) -> Response {
        let id = random_hex(8);
        let [before, after] = &self.parts;
        let mut response = Response::new(Body::from([before, id.as_str(), after].concat()));
        *response.status_mut() = self.status;
        *response.headers_mut() = self.headers.clone();
        if let Ok(id) = HeaderValue::try_from(id) {
            response.headers_mut().insert(REQUEST_ID, id);
        }
        response
    }
}

/// The refusals of a lane: in a crowd it takes fewer, and says how many.
pub struct Refusals([(usize, Written); 2]);

impl Refusals {
    pub async fn of(lane: &Lane) -> Refusals {
        let of = async |most| (most, Written::of(lane.refusal(most)).await);
        Refusals([of(lane.most).await, of(lane.most_in_crowd).await])
    }

    /// The answer of a lane that takes so many now.
    pub fn response(&self, most: usize) -> Response {
        let [(usual, written), (_, in_crowd)] = &self.0;
        if most == *usual { written.response() } else { in_crowd.response() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::node::lanes::{LaneSizes, Lanes};

    #[tokio::test]
    async fn a_written_refusal_is_what_is_written_for_it_alone() {
        let lanes = Lanes::new(LaneSizes::of_cores(2)).unwrap();
        let lane = &lanes.searches;
        let refusals = Refusals::of(lane).await;
        let mut ids = Vec::new();
        for most in [lane.most, lane.most_in_crowd, lane.most] {
            let (head, body) = refusals.response(most).into_parts();
            let id = head.headers["x-request-id"].to_str().unwrap().to_owned();
            assert_eq!((head.status.as_u16(), &head.headers["retry-after"]), (503, &"1".parse().unwrap()));
            assert_eq!(head.headers["content-type"], "application/problem+json");
            assert!(head.headers.contains_key("content-security-policy"));
            let body: serde_json::Value =
                serde_json::from_slice(&body.collect().await.unwrap().to_bytes()).unwrap();
            assert_eq!(body, lane.refusal(most).body(&id));
            assert!(body["detail"].as_str().unwrap().contains(&format!("({most})")));
            ids.push(id);
        }
        assert_ne!(ids[0], ids[2]);
    }
}

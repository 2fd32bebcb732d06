//! Keys, sign-in links and sessions.

use serde_json::Value;
use zesty_testing::*;

#[tokio::test(flavor = "multi_thread")]
async fn no_route_answers_without_a_key_and_links_sign_a_browser_in_once() {
    let r = plain().await;
    let http = reqwest::Client::new();
    let openapi: Value = r
        .client
        .request("GET".parse().unwrap(), "/api/openapi.json")
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    let mut n = 0;
    for (path, methods) in openapi["paths"].as_object().unwrap() {
        for method in methods.as_object().unwrap().keys() {
            let url = format!("{}{}", r.url, path.replace(['{', '}'], ""));
            let request = http.request(method.to_uppercase().parse().unwrap(), url);
            let response = request.header("authorization", "Bearer zk_wrong").send().await.unwrap();
            assert_eq!(response.status(), 401, "{method} {path}");
            n += 1;
        }
    }
    assert!(n >= 25, "{n} routes are described");
    for path in ["/", "/c/logbook", "/assets/x.js", "/api/openapi.json", "/lantern.svg"] {
        assert_eq!(http.get(format!("{}{path}", r.url)).send().await.unwrap().status(), 401, "{path}");
    }

    let link = r.client.sign_in_link().await.unwrap();
    let response = http.get(&link).send().await.unwrap();
    let cookie = response.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    assert_eq!(http.get(&link).send().await.unwrap().status(), 401, "a link works once");
    let session = cookie.split(';').next().unwrap().to_owned();
    let with = |path: &str| http.get(format!("{}{path}", r.url)).header("cookie", session.clone()).send();
    assert_eq!(with("/api/collections").await.unwrap().status(), 200);
    let out =
        http.post(format!("{}/api/sign-out", r.url)).header("cookie", session.clone()).send().await.unwrap();
    assert_eq!(out.status(), 204);
    assert_eq!(with("/api/collections").await.unwrap().status(), 401);

    let made = r.client.make_key("nightly").await.unwrap();
    let other = zesty_client::Client::new(&r.url, &made.key);
    other.service().await.unwrap();
    r.client.remove_key("nightly").await.unwrap();
    assert_eq!(refused(other.service().await).status, 401);
    // Only hashes are kept: the key is in no table.
    assert!(!format!("{:?}", r.client.keys().await.unwrap()).contains(&made.key));
}

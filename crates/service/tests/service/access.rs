//! Keys, sign-in links and sessions.

use serde_json::{Value, json};
use zesty_client::Client;
use zesty_testing::*;
use zesty_wire::{AuditEntry, KeyChange, KeyRequest, Scope};

#[tokio::test(flavor = "multi_thread")]
async fn no_route_answers_without_a_key_and_links_sign_a_browser_in_once() {
    let r = plain().await;
    let http = reqwest::Client::new();
    let openapi = r.openapi().await;
    let mut n = 0;
    for (path, methods) in openapi["paths"].as_object().unwrap() {
        if path.starts_with("/health/") {
            assert_eq!(http.get(format!("{}{path}", r.url)).send().await.unwrap().status(), 200, "{path}");
            continue;
        }
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
    // A cookie changes things from the console's own pages alone; looking at a link does not use it up.
    let sign_out = |origin: &str| {
        let out = http.post(format!("{}/api/sign-out", r.url)).header("cookie", session.clone());
        out.header("origin", origin).send()
    };
    assert_eq!(sign_out("https://evil.test").await.unwrap().status(), 403);
    assert_eq!(with("/api/collections").await.unwrap().status(), 200);
    assert_eq!(sign_out(&r.url).await.unwrap().status(), 204);
    let link = r.client.sign_in_link().await.unwrap();
    assert_eq!(http.head(&link).send().await.unwrap().status(), 200);
    let answer = http.get(&link).send().await.unwrap();
    assert_eq!(
        (answer.status().as_u16(), &answer.headers()["cache-control"]),
        (200, &"no-store".parse().unwrap())
    );
    let policy = answer.headers()["content-security-policy"].to_str().unwrap();
    assert!(policy.contains("script-src 'self';") && policy.contains("frame-ancestors 'none'"), "{policy}");
    assert_eq!(with("/api/collections").await.unwrap().status(), 401);

    let made = r.client.make_key(&key("nightly", &[Scope::Search])).await.unwrap();
    let other = zesty_client::Client::new(&r.url, &made.key);
    other.service().await.unwrap();
    r.client.remove_key("nightly").await.unwrap();
    assert_eq!(refused(other.service().await).status, 401);
    // Only hashes are kept: the key is in no table.
    assert!(!format!("{:?}", r.client.keys().await.unwrap()).contains(&made.key));
}

fn key(name: &str, scopes: &[Scope]) -> KeyRequest {
    KeyRequest { name: name.into(), scopes: scopes.to_vec(), ..KeyRequest::default() }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refusal_names_what_is_missing_and_its_command_mends_it() {
    let r = plain().await;
    for name in ["logs", "other"] {
        r.client.create_collection(&json!({"name": name})).await.unwrap();
    }
    let request = KeyRequest { collections: Some(vec!["logs".into()]), ..key("app", &[Scope::Search]) };
    let app = Client::new(&r.url, &r.client.make_key(&request).await.unwrap().key);
    let no = refused(app.write("logs", &[json!({"key": "a"})]).await);
    assert_eq!((no.status, no.word()), (403, "not-permitted"));
    assert!(no.detail.ends_with("zesty key allow app --scope write"), "{}", no.detail);
    let no = refused(app.write("other", &[json!({"key": "a"})]).await);
    assert!(no.detail.ends_with("zesty key allow app --scope write --collection other"), "{}", no.detail);
    // Whether a collection exists is not told to who may not ask.
    let no = refused(app.collection("other").await);
    let nothing = refused(app.collection("nothing").await);
    assert_eq!(
        (no.status, no.detail.replace("other", "x")),
        (nothing.status, nothing.detail.replace("nothing", "x"))
    );
    assert_eq!(app.collections().await.unwrap().len(), 1);
    assert!(
        refused(app.keys().await).detail.contains("--scope manage")
            || refused(app.keys().await).status == 403
    );

    let change = KeyChange {
        add_scopes: vec![Scope::Write],
        add_collections: vec!["other".into()],
        ..KeyChange::default()
    };
    r.client.change_key("app", &change).await.unwrap();
    app.write("other", &[json!({"key": "a"})]).await.unwrap();
    let change = KeyChange { remove_scopes: vec![Scope::Write], ..KeyChange::default() };
    r.client.change_key("app", &change).await.unwrap();
    assert_eq!(refused(app.write("other", &[json!({"key": "b"})]).await).status, 403);

    // What it did is listed, and what it was not permitted.
    let entries = r.client.audit(100, None).await.unwrap().entries;
    let did = |key: &str, method: &str, path: &str, status: u16| {
        let is_it =
            |e: &&AuditEntry| (&*e.key, &*e.method, &*e.path, e.status) == (key, method, path, status);
        entries.iter().find(is_it).unwrap_or_else(|| panic!("{key} {method} {path} {status}: {entries:?}"))
    };
    assert_eq!(did("app", "POST", "/api/collections/other/records", 403).from, "127.0.0.1");
    did("app", "POST", "/api/collections/other/records", 200);
    did("first", "POST", "/api/keys", 201);
    did("first", "PATCH", "/api/keys/app", 200);
    assert!(entries.windows(2).all(|two| two[0].id > two[1].id), "newest first");
    let used = r.client.keys().await.unwrap().into_iter().find(|k| k.permit.name == "app").unwrap();
    assert!(used.last_used_at.is_some() && used.last_used_from.as_deref() == Some("127.0.0.1"));
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_end_and_rotate_with_what_was_signed_in_with_them() {
    let r = plain().await;
    let http = reqwest::Client::new();
    let made = r.client.make_key(&key("app", &[Scope::Search, Scope::Manage])).await.unwrap();
    let old = Client::new(&r.url, &made.key);
    let link = old.sign_in_link().await.unwrap();
    let cookie = http.get(&link).send().await.unwrap().headers()["set-cookie"].to_str().unwrap().to_owned();
    let session = cookie.split(';').next().unwrap().to_owned();
    let signed = async || {
        let asked = http.get(format!("{}/api/collections", r.url)).header("cookie", session.clone());
        asked.send().await.unwrap().status().as_u16()
    };
    let unused = old.sign_in_link().await.unwrap();
    assert_eq!(signed().await, 200);
    let second = r.client.rotate_key("app", 3600).await.unwrap();
    assert!(second.old_secret_ends_at.is_some());
    let new = Client::new(&r.url, &second.key);
    new.service().await.unwrap();
    old.service().await.unwrap();
    assert_eq!(signed().await, 200);
    // The old secret ends in an hour: what is made with it does too.
    let no = refused(old.make_key(&key("forever", &[Scope::Search])).await);
    assert_eq!((no.status, no.pointer.as_deref()), (403, Some("/expires_at")));
    let no = refused(old.rotate_key("first", 0).await);
    assert_eq!(no.status, 403, "nor a secret of a key that lasts longer");
    let third = r.client.rotate_key("app", 0).await.unwrap();
    for gone in [&old, &new] {
        assert_eq!(refused(gone.service().await).status, 401);
    }
    assert_eq!(signed().await, 401, "a session ends with its secret");
    assert_eq!(http.get(&unused).send().await.unwrap().status(), 401, "and so does a link");
    let app = Client::new(&r.url, &third.key);
    app.make_key(&key("sibling", &[Scope::Search])).await.unwrap();

    let soon = chrono::Utc::now() + chrono::TimeDelta::milliseconds(1500);
    r.client.change_key("app", &KeyChange { expires_at: Some(soon), ..KeyChange::default() }).await.unwrap();
    app.service().await.unwrap();
    eventually("the key has ended", async || app.service().await.is_err()).await;
    assert_eq!(refused(app.service().await).status, 401);
    let no = refused(r.client.remove_key("first").await);
    assert_eq!(no.word(), "still-used", "a key that has ended manages nothing");
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_that_make_no_sense_are_refused_with_what_would() {
    let r = plain().await;
    let fields = json!({"type": "object", "properties": {
        "tenant": {"type": "string"}, "year": {"type": "integer"}}});
    r.client.create_collection(&json!({"name": "logs", "fields": fields})).await.unwrap();
    let logs = Some(vec!["logs".to_owned()]);
    let filter = Some("tenant = 'a'".to_owned());
    let values = |v: Value| v.as_object().unwrap().clone();
    let write = [Scope::Search, Scope::Write];
    let bound = |name: &str| KeyRequest {
        collections: logs.clone(),
        filter: filter.clone(),
        values: values(json!({"tenant": "a"})),
        key_prefix: Some("a:".into()),
        ..key(name, &write)
    };
    let cases = [
        (KeyRequest { scopes: vec![], ..key("x", &[]) }, "/scopes"),
        (key("No Name", &write), "/name"),
        (KeyRequest { collections: Some(vec!["lgos".into()]), ..key("x", &write) }, "/collections/0"),
        (KeyRequest { collections: None, ..bound("x") }, "/collections"),
        (KeyRequest { scopes: vec![Scope::Tune], ..bound("x") }, "/scopes"),
        (KeyRequest { filter: Some("tenannt = 'a'".into()), ..bound("x") }, "/filter"),
        (KeyRequest { key_prefix: None, ..bound("x") }, "/key_prefix"),
        (KeyRequest { key_prefix: Some(String::new()), ..bound("x") }, "/key_prefix"),
        (KeyRequest { values: values(json!({"tenant": 3})), ..bound("x") }, "/values/tenant"),
        (KeyRequest { values: values(json!({"tenant": "b"})), ..bound("x") }, "/values"),
        (KeyRequest { values: values(json!({})), ..bound("x") }, "/values"),
        // A record with another year would be outside.
        (KeyRequest { filter: Some("tenant = 'a' AND year IS NULL".into()), ..bound("x") }, "/values"),
        (KeyRequest { expires_at: Some(chrono::Utc::now()), ..key("x", &write) }, "/expires_at"),
    ];
    for (request, pointer) in cases {
        let no = refused(r.client.make_key(&request).await);
        assert_eq!(no.pointer.as_deref(), Some(pointer), "{request:?}: {}", no.detail);
    }
    r.client.make_key(&bound("x")).await.unwrap();
    assert_eq!(refused(r.client.make_key(&bound("x")).await).word(), "name-taken");
    let change = KeyChange { add_scopes: vec![Scope::Tune], ..KeyChange::default() };
    assert_eq!(refused(r.client.change_key("x", &change).await).pointer.as_deref(), Some("/scopes"));
    let change = KeyChange { remove_collections: vec!["logs".into()], ..KeyChange::default() };
    assert_eq!(refused(r.client.change_key("x", &change).await).status, 422);
}

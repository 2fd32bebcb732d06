//! Saved searches, and a collection dropped and restored, in the browser.

use crate::{browser, find, find_text};
use zesty_testing::*;

#[tokio::test(flavor = "multi_thread")]
async fn a_search_is_saved_made_live_asked_and_handed_out() {
    let r = with_encoder().await;
    r.logbook(300).await;
    let (b, _driver) = browser().await;
    b.goto(&r.client.sign_in_link().await.unwrap()).await.unwrap();
    find(&b, "[data-collections]").await;
    b.goto(&format!("{}/c/logbook/saved", r.url)).await.unwrap();
    find(&b, "[data-new]").await.click().await.unwrap();
    find(&b, "#saved-name").await.send_keys("notes-near").await.unwrap();
    find(&b, "[data-save]").await.click().await.unwrap();
    find_text(&b, "main h1", "a draft").await;

    // Tried as a draft, made live, asked.
    find(&b, "#p-q").await.send_keys("fog bell").await.unwrap();
    find(&b, "#p-n").await.send_keys("2").await.unwrap();
    find(&b, "[data-ask]").await.click().await.unwrap();
    find(&b, ".hits li:nth-child(2)").await;
    find(&b, "[data-live='1']").await.click().await.unwrap();
    find_text(&b, "main h1", "version 1 answers").await;
    find(&b, "[data-ask]").await.click().await.unwrap();
    find_text(&b, "[data-traffic]", "Asked, last hour").await;
    eventually("it was asked", async || {
        r.client.saved_traffic("logbook", "notes-near").await.unwrap().searches == 1
    })
    .await;
    find_text(&b, "main", "/saved-searches/notes-near/search?q=fog+bell&n=2").await;
    // A value that does not fit is refused with what would.
    find(&b, "#p-n").await.send_keys("00").await.unwrap();
    find(&b, "[data-ask]").await.click().await.unwrap();
    find_text(&b, "[role=alert]", "is an integer from 1 to 50; 200 is given").await;
    // Another version, and back.
    find(&b, "[data-edit]").await.click().await.unwrap();
    find(&b, "[data-save]").await.click().await.unwrap();
    find(&b, "[data-live='2']").await.click().await.unwrap();
    find_text(&b, "main h1", "version 2 answers").await;
    find_text(&b, "[data-live='1']", "Go back to it").await.click().await.unwrap();
    find_text(&b, "main h1", "version 1 answers").await;

    // The collection is dropped once its name is typed, and restored.
    find(&b, "[data-nav=collection]").await.click().await.unwrap();
    find(&b, "[data-deed=drop]").await.click().await.unwrap();
    find(&b, "[data-word]").await.send_keys("logboo").await.unwrap();
    assert!(!find(&b, "[data-act]").await.is_enabled().await.unwrap(), "not before the whole name is typed");
    find(&b, "[data-word]").await.send_keys("k").await.unwrap();
    find(&b, "[data-act]").await.click().await.unwrap();
    find_text(&b, "[data-dropped] button", "Restore").await.click().await.unwrap();
    find_text(&b, "[data-collections]", "logbook").await;
    assert_eq!(r.client.collection("logbook").await.unwrap().n_records, 300);
    b.quit().await.unwrap();
}

//! What goes on while a collection serves: saved searches; collections dropped, restored, renamed, swapped and cloned.

use crate::client::{Client, Result, step};
use reqwest::Method;
use serde::Serialize;
use zesty_wire::*;

fn saved(collection: &str, name: &str) -> String {
    format!("/api/collections/{}/saved-searches/{}", step(collection), step(name))
}

impl Client {
    /// Drops a collection; it can be restored for some days.
    pub async fn drop_collection(&self, name: &str) -> Result<DroppedCollection> {
        self.read(self.request(Method::DELETE, &format!("/api/collections/{}", step(name)))).await
    }

    pub async fn dropped_collections(&self) -> Result<Vec<DroppedCollection>> {
        Ok(self.get::<DroppedList>("/api/dropped-collections").await?.dropped)
    }

    /// Brings a dropped collection back, under its own name or another.
    pub async fn restore_collection(&self, id: i64, name: Option<&str>) -> Result<Collection> {
        let request = RestoreRequest { name: name.map(str::to_owned) };
        self.call(Method::POST, &format!("/api/dropped-collections/{id}/restoration"), &request).await
    }

    /// Deletes a dropped collection for good.
    pub async fn purge_collection(&self, id: i64) -> Result<()> {
        self.delete(&format!("/api/dropped-collections/{id}")).await
    }

    pub async fn rename_collection(&self, name: &str, to: &str) -> Result<Collection> {
        let request = RenameRequest { name: to.into() };
        self.call(Method::PUT, &format!("/api/collections/{}/name", step(name)), &request).await
    }

    /// Two collections change names at once.
    pub async fn swap_collections(&self, name: &str, request: &SwapRequest) -> Result<Vec<Collection>> {
        let path = format!("/api/collections/{}/swap", step(name));
        Ok(self.call::<CollectionList>(Method::POST, &path, request).await?.collections)
    }

    /// Copies a collection, as a job.
    pub async fn clone_collection(&self, name: &str, request: &CloneRequest) -> Result<Job> {
        self.call(Method::POST, &format!("/api/collections/{}/clone", step(name)), request).await
    }

    pub async fn saved_searches(&self, collection: &str) -> Result<Vec<SavedSearch>> {
        let path = format!("/api/collections/{}/saved-searches", step(collection));
        Ok(self.get::<SavedList>(&path).await?.saved)
    }

    pub async fn saved_search(&self, collection: &str, name: &str) -> Result<SavedSearch> {
        self.get(&saved(collection, name)).await
    }

    /// Keeps a new version; it answers once it is made live.
    pub async fn save_search(
        &self,
        collection: &str,
        name: &str,
        definition: &impl Serialize,
    ) -> Result<SavedSearch> {
        self.call(Method::PUT, &saved(collection, name), definition).await
    }

    /// The version that answers from now on.
    pub async fn set_live(&self, collection: &str, name: &str, version: i32) -> Result<SavedSearch> {
        let path = format!("{}/live", saved(collection, name));
        self.call(Method::PUT, &path, &LiveVersion { version }).await
    }

    /// Lets no version answer.
    pub async fn withdraw_saved(&self, collection: &str, name: &str) -> Result<SavedSearch> {
        self.read(self.request(Method::DELETE, &format!("{}/live", saved(collection, name)))).await
    }

    pub async fn remove_saved(&self, collection: &str, name: &str) -> Result<()> {
        self.delete(&saved(collection, name)).await
    }

    pub async fn saved_traffic(&self, collection: &str, name: &str) -> Result<SavedTraffic> {
        self.get(&format!("{}/traffic", saved(collection, name))).await
    }

    /// Asks the version that answers, or another one to try it; values as in a query string.
    pub async fn ask_saved(
        &self,
        collection: &str,
        name: &str,
        version: Option<i32>,
        values: &[(String, String)],
    ) -> Result<SearchAnswer> {
        let of = saved(collection, name);
        let path = version.map_or(format!("{of}/search"), |v| format!("{of}/versions/{v}/search"));
        self.read(self.request(Method::GET, &path).query(values)).await
    }
}

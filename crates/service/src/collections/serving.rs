//! Which index answers searches that name none.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::{Live, Serving};
use crate::collections::registry::Registry;
use crate::collections::view;
use crate::measure::targets::check_recall;
use crate::problem::{Kind, Problem, Result};
use crate::search::settings::settings_over;
use serde_json::json;
use zesty_catalog::CatalogError;
use zesty_engine::index::Settings;
use zesty_wire as wire;

/// Makes an index with its settings the serving choice of a column.
pub async fn serve(
    grant: &Grant,
    registry: &Registry,
    (collection, column): (&str, &str),
    choice: wire::ServingChoice,
) -> Result<wire::Collection> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    let at = live.column(Some(column), "")?;
    let settings = settings_over(choice.settings, Settings::default(), "/settings")?;
    let index = live.index(&choice.index).map_err(|p| p.at("/index"))?;
    if live.position(&index) != Some(at) {
        let detail = format!("index \"{}\" is not built over column \"{column}\"", choice.index);
        return Err(Problem::new(Kind::WrongShape, detail).at("/index"));
    }
    if index.attached.is_none() {
        return Err(index.not_ready().at("/index"));
    }
    if let Some(recall) = choice.recall {
        check_recall(recall, "/recall")?;
        if choice.settings != wire::Settings::default() {
            let detail = "a serving choice has settings or a recall, not both";
            return Err(Problem::new(Kind::WrongShape, detail).at("/recall"));
        }
    }
    let serving = Serving { index: choice.index, settings, recall: choice.recall };
    live.set_serving(registry, at, Some(serving)).await?;
    Ok(view::collection(&live))
}

/// Answers searches of a column by the exact scan.
pub async fn serve_exact(
    grant: &Grant,
    registry: &Registry,
    (collection, column): (&str, &str),
) -> Result<wire::Collection> {
    let live = registry.collection(grant, Scope::Tune, collection)?;
    let at = live.column(Some(column), "")?;
    live.set_serving(registry, at, None).await?;
    Ok(view::collection(&live))
}

impl Live {
    pub async fn set_serving(
        &self,
        registry: &Registry,
        column: usize,
        serving: Option<Serving>,
    ) -> Result<(), CatalogError> {
        let value = serving.as_ref().map(|s| json!(s));
        let id = self.columns()[column].id;
        registry.catalog.set_serving(self.id, id, value).await?;
        self.edit_serving(|all| match serving {
            Some(serving) => drop(all.insert(id, serving)),
            None => drop(all.remove(&id)),
        });
        Ok(())
    }
}

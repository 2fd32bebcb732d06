//! Which index answers a search: the named one, the serving choice, or none.

use crate::collections::live::{Live, LiveIndex};
use crate::problem::{Kind, Problem, Result};
use crate::search::settings::{settings_of, settings_over, unused_settings};
use std::sync::Arc;
use zesty_engine::index::Settings;
use zesty_wire::{Notice, SearchRequest};

pub struct Chosen {
    pub index: Arc<LiveIndex>,
    pub settings: Settings,
}

/// Which index answers: the named one, the serving choice, or none.
pub fn choose(
    live: &Live,
    column: usize,
    input: &SearchRequest,
    notices: &mut Vec<Notice>,
) -> Result<Option<Chosen>> {
    let over = |usual: Settings| settings_over(input.settings.unwrap_or_default(), usual, "/settings");
    over(Settings::default())?;
    if input.exact {
        if input.index.is_some() || input.settings.is_some() {
            let detail = "an exact search uses no index: leave out exact, or index and settings";
            return Err(Problem::new(Kind::WrongShape, detail).at("/exact"));
        }
        return Ok(None);
    }
    let mut notice = |code: &str, text: String| notices.push(Notice { code: code.into(), text });
    if let Some(name) = &input.index {
        let index = live.index(name).map_err(|p| p.at("/index"))?;
        if live.position(&index) != Some(column) {
            let detail =
                format!("index \"{name}\" is not built over column \"{}\"", live.columns()[column].name);
            return Err(Problem::new(Kind::WrongShape, detail).at("/index"));
        }
        if index.attached.is_none() {
            return Err(index.not_ready().at("/index"));
        }
        let serving = live.serving(column).filter(|s| s.index == *name);
        let settings = over(serving.map_or(Settings::default(), |s| s.settings))?;
        return Ok(Some(Chosen { index, settings }));
    }
    let Some(serving) = live.serving(column) else {
        if live.table.load().n_records() > 1000 {
            notice(
                "no-index",
                "no index serves this column, so every record was scanned; build one to search faster".into(),
            );
        }
        return Ok(None);
    };
    let index = live.index(&serving.index).ok().filter(|i| live.position(i) == Some(column));
    let ready = |i: &Arc<LiveIndex>| i.attached.as_ref().is_some_and(|a| a.fits(&live.table.load()));
    let Some(index) = index.filter(ready) else {
        let text = format!("index \"{}\" is not ready; the answer is exact, and slower", serving.index);
        notice("index-not-ready", text);
        return Ok(None);
    };
    Ok(Some(Chosen { index, settings: over(serving.settings)? }))
}

/// Says which of the given settings do nothing for the index that answers.
pub fn tell_unused(chosen: &Chosen, input: &SearchRequest, notices: &mut Vec<Notice>) {
    let (Some(given), model) = (input.settings, &chosen.index.model) else { return };
    let unused = unused_settings(given, settings_of(&model.recipe, chosen.settings));
    if !unused.is_empty() {
        let text =
            format!("index \"{}\" ({}) does not use {}", model.name, model.recipe, unused.join(" or "));
        notices.push(Notice { code: "unused-setting".into(), text });
    }
}

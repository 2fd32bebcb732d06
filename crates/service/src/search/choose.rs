//! Which index answers a search: the named one, the serving choice, or none.

use crate::collections::live::{Live, LiveIndex};
use crate::measure::targets::{check_recall, view};
use crate::problem::{Kind, Problem, Result};
use crate::records::select::read_and_compile;
use crate::search::settings::{settings_of, settings_over, unused_settings};
use std::sync::Arc;
use zesty_catalog::measurement;
use zesty_engine::index::Settings;
use zesty_wire as wire;
use zesty_wire::{Notice, SearchRequest};

pub struct Chosen {
    pub index: Arc<LiveIndex>,
    pub settings: Settings,
    /// What measured the settings, where a recall was asked for.
    pub target: Option<wire::MeasuredTarget>,
}

/// The settings that the newest target of an index measured for a recall: the fastest of those that reach it.
fn settings_for(
    live: &Live,
    index: &LiveIndex,
    (recall, k): (f64, usize),
    usual: Settings,
    filter: Option<&serde_json::Value>,
    notices: &mut Vec<Notice>,
) -> (Settings, Option<wire::MeasuredTarget>) {
    let mut notice = |code: &str, text: String| notices.push(Notice { code: code.into(), text });
    let targets = live.kept.targets.load();
    let name = &index.model.name;
    // Most targets are of other indexes, or were not reached: those need not be read as a whole.
    let may = |t: &&measurement::Model| {
        t.created_at >= index.model.created_at
            && t.spec["index"] == name.as_str()
            && t.result["reached"] == true
    };
    let of_index = targets.iter().filter(may).filter_map(|t| view(live, t));
    let reaches = |t: &wire::Target| {
        t.result.reached && t.spec.aim == wire::Aim::Mean && t.spec.recall >= recall && t.spec.k >= k
    };
    // What was measured with this very filter tells most, or without one where none is asked for; then what was measured
    // without, whose settings are widened by what a filter leaves.
    let is_other = |t: &wire::Target| match filter {
        Some(_) if t.result.filter.as_ref() == filter => 0,
        _ if t.result.n_filtered == 0 => 1,
        _ => 2,
    };
    // The nearest recall and k that are enough; of those the newest, which comes first.
    let found = of_index.filter(reaches).min_by(|a, b| {
        let nearer = a.spec.recall.total_cmp(&b.spec.recall).then(a.spec.k.cmp(&b.spec.k));
        is_other(a).cmp(&is_other(b)).then(nearer)
    });
    let Some(target) = found else {
        let text = format!(
            "no target measured recall {recall} at k {k} for index \"{name}\", so the usual settings were used; \
             `zesty target solve {} {name} --recall {recall}` measures it",
            live.name
        );
        notice("recall-not-measured", text);
        return (usual, None);
    };
    if filter.is_some() && is_other(&target) > 0 {
        let text =
            "the recall was measured without this filter, and the settings are widened by what it leaves; a \
                    target over a query set with this filter measures it"
                .into();
        notice("recall-of-other-filter", text);
    } else if filter.is_none() && target.result.n_filtered > 0 {
        notice("recall-of-other-filter", "the recall was measured with filters".into());
    }
    let settings = settings_over(target.result.settings, Settings::default(), "").unwrap_or(usual);
    let measured = wire::MeasuredTarget {
        id: target.id,
        recall: target.spec.recall,
        achieved: target.result.achieved.recall_mean,
        k: target.spec.k,
        stale: target.stale,
    };
    (settings, Some(measured))
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
    if let Some(recall) = input.recall {
        check_recall(recall, "/recall")?;
        if input.settings.is_some() {
            let detail = "give settings or a recall, not both";
            return Err(Problem::new(Kind::WrongShape, detail).at("/recall"));
        }
    }
    if input.exact {
        if input.index.is_some() || input.settings.is_some() || input.recall.is_some() {
            let detail = "an exact search uses no index: leave out exact, or index, settings and recall";
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
        let usual = over(serving.as_ref().map_or(Settings::default(), |s| s.settings))?;
        let recall = input.recall.or(serving.and_then(|s| s.recall));
        return Ok(Some(with_recall(live, index, usual, recall, input, notices)));
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
    let (usual, recall) = (over(serving.settings)?, input.recall.or(serving.recall));
    Ok(Some(with_recall(live, index, usual, recall, input, notices)))
}

/// An index with the settings for a recall, if one is asked for and no settings are.
fn with_recall(
    live: &Live,
    index: Arc<LiveIndex>,
    usual: Settings,
    recall: Option<f64>,
    input: &SearchRequest,
    notices: &mut Vec<Notice>,
) -> Chosen {
    let recall = recall.filter(|_| input.settings.is_none());
    let (settings, target) = match recall {
        Some(recall) => {
            let wanted = (recall, input.k.saturating_add(input.skip));
            let read = read_and_compile(live.table.load().schema(), input.filter.as_ref());
            let filter = read.ok().flatten().map(|(filter, _)| filter.to_json());
            settings_for(live, &index, wanted, usual, filter.as_ref(), notices)
        }
        None => (usual, None),
    };
    Chosen { index, settings, target }
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

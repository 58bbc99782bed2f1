//! Runs by their names, and what is known of their entries once more: plans are made again from what is kept.

use std::sync::{Arc, PoisonError};

use kesmo_core::{
    plan::{Plan, PlannedEntry},
    suite::Variant,
    words::{Outcome, Phase},
};
use kesmo_floor::active;
use kesmo_store::runs::RunRow;

use crate::{
    app::App,
    lookup::{named, suite_file},
    past::Past,
    refused::Refused,
};

/// Plans that are kept beside the latest: how many, and of how many entries together, as one may take 200 bytes.
const MOST_PASTS: usize = 2;
const MOST_CACHED: usize = 200_000;

/// The run of that name.
pub(super) async fn find(app: &App, suite: &str, number: i32) -> Result<RunRow, Refused> {
    match app.store.run(suite, number).await? {
        Some((row, _)) => Ok(row),
        None => {
            named(app, suite).await?;
            Err(Refused::not_found(format!("there is no run {suite}/{number}: see `kesmo runs --suite {suite}`")))
        }
    }
}

/// The plan of a run and, if it is finished, how its entries ended.
pub(super) async fn past(app: &App, row: &RunRow) -> Result<Arc<Past>, Refused> {
    let finished = row.phase == "finished";
    {
        let cache = app.past.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, past)) = cache.iter().find(|(id, past)| *id == row.id && (!finished || !past.states.is_empty()))
        {
            return Ok(Arc::clone(past));
        }
    }
    let Some(source) = &row.source else {
        return Ok(Arc::new(Past::default()));
    };
    let (_, file) = suite_file(app, source).await?;
    let options = row.run_options()?;
    let variants = file.facets.chosen(&options.variants).map_err(|e| Refused::invalid(e.to_string()))?;
    // Its tests are listed, or are about to be written down: a plan of none of them is not to be kept.
    if row.listings.len() < variants.len() {
        return Ok(Arc::new(Past::default()));
    }
    let mut lists: Vec<(Variant, _)> = Vec::new();
    for (variant, key) in variants.into_iter().zip(&row.listings) {
        if key == active::NO_LIST {
            lists.push((variant, Vec::new()));
            continue;
        }
        match app.store.listing(key).await? {
            Some(tests) => lists.push((variant, tests)),
            // Listing failed, or is not done: there are no entries.
            None => return Ok(Arc::new(Past::default())),
        }
    }
    // A choice that matched nothing made the run void: there are no entries.
    let plan = Plan::make(&file, &options, &lists, &row.parks_then()?, |_, _| None).unwrap_or_default();
    let plan = plan.with_cuts(&app.store.cuts(row.id).await?);
    let (mut states, mut retried) = (Vec::new(), Vec::new());
    if finished {
        let parked = |e: &PlannedEntry| e.parked.is_some() && !options.run_parked;
        let before = |e: &PlannedEntry| if parked(e) { Outcome::Parked } else { Outcome::NotRun };
        states = plan.entries.iter().map(|e| (before(e), 0, 0)).collect();
        retried = vec![0; states.len()];
        for bone in app.store.attempt_bones(row.id, kesmo_store::month_of(row.created_at)).await? {
            let Some(state) = states.get_mut(bone.entry as usize) else { continue };
            if bone.number as u16 >= state.1 {
                retried[bone.entry as usize] += if state.1 > 0 { state.2 } else { 0 };
                (state.1, state.2) = (bone.number as u16, bone.spent_us as u64);
            }
            if let Some(outcome) = bone.decided.as_deref().and_then(Outcome::of) {
                state.0 = outcome;
            }
        }
    }
    let past = Arc::new(Past { plan, states, retried, of_files: file.tests.of_files() });
    // How its files are cut is kept before it runs, and may not be yet.
    if !finished && row.phase != Phase::Running.word() {
        return Ok(past);
    }
    let mut cache = app.past.0.lock().unwrap_or_else(PoisonError::into_inner);
    cache.retain(|(id, _)| *id != row.id);
    cache.push_front((row.id, Arc::clone(&past)));
    // The latest always, as many as it may have; others as long as they are few together.
    let mut entries = 0;
    let mut few = |past: &Past| {
        entries += past.plan.entries.len();
        entries <= MOST_CACHED
    };
    let kept = cache.iter().skip(1).take(MOST_PASTS).take_while(|(_, past)| few(past)).count();
    cache.truncate(kept + 1);
    Ok(past)
}

//! A run, looked at closely: failures by cause, what was around an attempt, what each slot carried out, variants side by
//! side.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use chrono::{DateTime, Utc};

use kesmo_core::{
    plan::Plan,
    record::causes,
    run::{
        Tally,
        figures::{Part, Parts},
        timeline::{CaseMark, Place, ToldAt, blocks, busy_share, marks, tail},
    },
    time::Span,
    words::{Ended, Outcome},
};
use kesmo_store::{
    cases::CaseQuestion,
    month_of,
    past::{AttemptRow, LaneRow, PlaceRow},
    runs::RunRow,
};
use kesmo_wire::api::{
    Around, CauseOf, Differing, Failing, Shard, ShardBatch, Timeline, VariantOf, Variants, part_name,
};
use rocket::{Route, State, get, routes, serde::json::Json};

use super::{
    body::Answer,
    found::{find, past},
};
use crate::{access::MaySee, app::App, refused::Refused};
use kesmo_floor::Ask;

/// What ran before an attempt in its process, and on its worker.
const MOST_BEFORE: usize = 50;
const MOST_ON_WORKER: usize = 5;
/// Blocks of a timeline, and names in it, about.
const MOST_BLOCKS: u64 = 8000;
const MOST_NAMED: usize = 2000;
/// Attempts of files whose cases are shown in a timeline, the longest, and how many cases are looked at; none of an attempt that
/// is shorter than so many times what can be told apart.
const MOST_WITH_CASES: usize = 200;
const MOST_MARKED: i64 = 20_000;
const LEAST_GRAINS: u64 = 8;
/// Failed cases that are gathered by their causes.
const MOST_CASES: i64 = 5000;
/// Tests that differ between variants.
const MOST_DIFFERING: usize = 200;

pub(super) fn routes() -> Vec<Route> {
    routes![causes_of, shards, variants, parts, timeline]
}

fn name_of(plan: &Plan, index: u32) -> String {
    let Some(entry) = plan.entries.get(index as usize) else { return String::new() };
    part_name(entry.name.as_str(), &plan.variant_of(index).to_string(), u32::from(entry.repeat), entry.parts())
}

/// Failures gathered by cause: of each entry that failed or was flaky, the message of its first failing attempt, without
/// what differs from one failure to the next. Of a file whose cases failed it is their messages.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/causes", operation_id = "causes", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path)), responses((status = 200, body = [CauseOf])))]
#[get("/api/runs/<suite>/<number>/causes")]
async fn causes_of(app: &State<App>, _caller: MaySee, suite: &str, number: i32) -> Answer<Vec<CauseOf>> {
    let row = find(app, suite, number).await?;
    Ok(Json(causes_in(app, &row).await?))
}

/// The failures of a run gathered by cause.
pub(crate) async fn causes_in(app: &App, row: &RunRow) -> Result<Vec<CauseOf>, Refused> {
    let past = past(app, row).await?;
    let outcomes = outcomes(app, row).await?;
    let mut seen = std::collections::HashSet::new();
    let failing = app.store.failing_attempts(row.id, month_of(row.created_at)).await?;
    let first = failing.into_iter().filter(|a| seen.insert(a.entry)).map(|a| (a.entry as u32, a.message));
    let failed_cases = match past.of_files {
        true => {
            let asked = CaseQuestion { outcomes: vec![Outcome::Failed], limit: MOST_CASES, ..CaseQuestion::default() };
            app.store.cases(row.id, month_of(row.created_at), &asked).await?
        }
        false => Vec::new(),
    };
    let told: std::collections::HashSet<i32> = failed_cases.iter().map(|case| case.entry).collect();
    let outcome = |i: u32| outcomes.get(i as usize).copied().flatten().map(|o| o.0);
    // What was left undone in the end, or does not count, failed for nobody.
    let counts = |i: u32| matches!(outcome(i), None | Some(Outcome::Failed | Outcome::Flaky));
    let first = first.filter(|(i, _)| counts(*i) && !told.contains(&(*i as i32)));
    let first = first.map(|(entry, message)| (Failing { entry, case: None }, message));
    let cases = failed_cases.into_iter().filter(|case| counts(case.entry as u32));
    let cases = cases.map(|case| (Failing { entry: case.entry as u32, case: Some(case.title) }, case.message));
    let flaky = |i: u32| outcome(i) == Some(Outcome::Flaky);
    let view = |cause| CauseOf::new(cause, |i| name_of(&past.plan, i), flaky);
    Ok(causes(first.chain(cases)).into_iter().map(view).collect())
}

/// The outcome of every entry, and what its last attempt took.
async fn outcomes(app: &App, row: &RunRow) -> Result<Vec<Option<(Outcome, u64)>>, Refused> {
    if let Some(states) = app.floor.ask(|reply| Ask::States(row.id, reply)).await.flatten() {
        return Ok(states.into_iter().map(|(outcome, spent)| outcome.map(|o| (o, spent))).collect());
    }
    let row = app.store.run_of(row.id).await?.unwrap_or_else(|| row.clone());
    Ok(past(app, &row).await?.states.iter().map(|s| Some((s.0, s.2))).collect())
}

/// What of the same run was around its failing attempts, by the attempt's number.
pub(super) async fn around(
    app: &App,
    row: &RunRow,
    plan: &Plan,
    attempts: &[AttemptRow],
) -> Result<HashMap<i32, Around>, Refused> {
    let mut found = HashMap::new();
    let failing = |a: &&AttemptRow| matches!(a.ended.as_str(), "failed" | "timed-out" | "crashed");
    let mut on: HashMap<&str, Vec<PlaceRow>> = HashMap::new();
    let mut shards: Option<Vec<Shard>> = None;
    for attempt in attempts.iter().filter(failing) {
        if !on.contains_key(attempt.worker.as_str()) {
            let rows = app.store.attempts_on(row.id, month_of(row.created_at), &attempt.worker).await?;
            on.insert(&attempt.worker, rows);
        }
        if shards.is_none() {
            shards = Some(shards_of(app, row).await?);
        }
        let places = &on[attempt.worker.as_str()];
        let mut around = around_one(plan, places, attempt);
        let slot = shards.iter().flatten().find(|s| s.worker == attempt.worker && s.slot == attempt.slot as u32);
        around.shard = slot.map_or(0, |s| s.number);
        found.insert(attempt.number, around);
    }
    Ok(found)
}

fn around_one(plan: &Plan, places: &[PlaceRow], attempt: &AttemptRow) -> Around {
    let ended = |p: &PlaceRow| p.began_at + chrono::Duration::microseconds(p.spent_us);
    let own_end = attempt.began_at + chrono::Duration::microseconds(attempt.spent_us);
    let name = |p: &PlaceRow| name_of(plan, p.entry as u32);
    let is_own = |p: &&PlaceRow| p.entry == attempt.entry && p.number == attempt.number;
    let earlier = || places.iter().filter(|p| p.began_at < attempt.began_at && !is_own(p));
    let mut before: Vec<String> = earlier().filter(|p| p.batch == attempt.batch).map(name).collect();
    let before_count = before.len() as u32;
    before.drain(..before.len().saturating_sub(MOST_BEFORE));
    let done = |p: &&PlaceRow| p.batch != attempt.batch && ended(p) <= attempt.began_at;
    let mut on_worker: Vec<String> = earlier().filter(done).map(name).collect();
    on_worker.drain(..on_worker.len().saturating_sub(MOST_ON_WORKER));
    let overlaps = |p: &&PlaceRow| p.batch != attempt.batch && p.began_at < own_end && ended(p) > attempt.began_at;
    let beside = places.iter().filter(|p| !is_own(p)).filter(overlaps).map(name).take(MOST_BEFORE).collect();
    let place = earlier().filter(|p| p.slot == attempt.slot).count() as u32 + 1;
    Around { shard: 0, place, before, before_count, on_worker, beside }
}

/// What each slot carried out.
pub(super) async fn shards_of(app: &App, row: &RunRow) -> Result<Vec<Shard>, Refused> {
    let past = past(app, row).await?;
    let ran: HashSet<(i32, u32)> = app
        .store
        .attempt_bones(row.id, month_of(row.created_at))
        .await?
        .into_iter()
        .map(|a| (a.batch, a.entry as u32))
        .collect();
    let mut shards: Vec<Shard> = Vec::new();
    for batch in app.store.batches(row.id).await? {
        // What a batch did not run went back, and was carried out by another.
        let own =
            |i: &u32| (*i as usize) < past.plan.entries.len() && (batch.open || ran.contains(&(batch.number, *i)));
        let entries = batch.entry_numbers()?.into_iter().filter(own);
        let name = |i: u32| (past.plan.entries[i as usize].name.to_string(), past.plan.variant_of(i).to_string());
        let of = ShardBatch { number: batch.number as u32, entries: entries.map(name).collect() };
        match shards.iter_mut().find(|s| s.worker == batch.worker && s.slot == batch.slot as u32) {
            Some(shard) => shard.batches.push(of),
            None => {
                let number = shards.len() as u32 + 1;
                shards.push(Shard { number, worker: batch.worker, slot: batch.slot as u32, batches: vec![of] });
            }
        }
    }
    Ok(shards)
}

/// What each slot carried out of a run, batch by batch, in order.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/shards", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path)), responses((status = 200, body = [Shard])))]
#[get("/api/runs/<suite>/<number>/shards")]
async fn shards(app: &State<App>, _caller: MaySee, suite: &str, number: i32) -> Answer<Vec<Shard>> {
    let row = find(app, suite, number).await?;
    Ok(Json(shards_of(app, &row).await?))
}

/// The outcomes of a run's variants side by side.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/variants", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path)), responses((status = 200, body = Variants)))]
#[get("/api/runs/<suite>/<number>/variants")]
async fn variants(app: &State<App>, _caller: MaySee, suite: &str, number: i32) -> Answer<Variants> {
    let row = find(app, suite, number).await?;
    let past = past(app, &row).await?;
    Ok(Json(side_by_side(&past.plan, &outcomes(app, &row).await?)))
}

/// A run by groups of names: the first parts of names. Those with failures come first.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/parts", operation_id = "parts", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path)), responses((status = 200, body = [Part])))]
#[get("/api/runs/<suite>/<number>/parts")]
async fn parts(app: &State<App>, _caller: MaySee, suite: &str, number: i32) -> Answer<Vec<Part>> {
    let row = find(app, suite, number).await?;
    if let Some(parts) = app.floor.ask(|reply| Ask::Parts(row.id, reply)).await.flatten() {
        return Ok(Json(parts));
    }
    let row = find(app, suite, number).await?;
    let past = past(app, &row).await?;
    let mut parts = Parts::new(past.plan.entries.iter().map(|e| e.name.as_str()));
    for a in app.store.attempt_bones(row.id, month_of(row.created_at)).await? {
        let ended = Ended::of(&a.ended).unwrap_or(Ended::Lost);
        let counts = past.plan.entries.get(a.entry as usize).is_some_and(|e| e.parked.is_none());
        if ended != Ended::Lost && counts {
            parts.add(a.entry as u32, ended, Span(a.spent_us as u64));
        }
    }
    Ok(Json(parts.told(|entry, tally| match past.states.get(entry as usize) {
        Some((outcome, ..)) => tally.count(*outcome),
        None => tally.waiting += 1,
    })))
}

/// The slots that attempts ran on, in order, and where and when each ran; times are from `began` on.
pub(super) fn places_of(rows: &[LaneRow], began: DateTime<Utc>) -> (Vec<(String, u32)>, Vec<Place>) {
    let lanes: BTreeSet<(String, u32)> = rows.iter().map(|r| (r.worker.clone(), r.slot as u32)).collect();
    let lanes: Vec<(String, u32)> = lanes.into_iter().collect();
    let lane_of: HashMap<(&str, u32), u32> =
        lanes.iter().zip(0..).map(|((worker, slot), n)| ((worker.as_str(), *slot), n)).collect();
    let place = |r: &LaneRow| {
        let from_us = (r.began_at - began).num_microseconds().unwrap_or(0).max(0) as u64;
        Place {
            lane: lane_of.get(&(r.worker.as_str(), r.slot as u32)).copied().unwrap_or(0),
            entry: r.entry as u32,
            number: r.number as u32,
            from_us,
            to_us: from_us + r.spent_us.max(0) as u64,
            ended: Ended::of(&r.ended).unwrap_or(Ended::Lost),
            decided: r.decided.as_deref().and_then(Outcome::of),
        }
    };
    let places = rows.iter().map(place).collect();
    (lanes, places)
}

/// What each slot of a run did when. Attempts too short to be seen are gathered: of the time between `from` and `to`
/// (microseconds from the beginning; all of it if they are left out) a block is never shorter than a part of `width`.
#[utoipa::path(get, path = "/api/runs/{suite}/{number}/timeline", operation_id = "timeline", tag = "runs",
    params(("suite" = String, Path), ("number" = i32, Path), ("from" = Option<u64>, Query), ("to" = Option<u64>, Query), ("width" = Option<u64>, Query)),
    responses((status = 200, body = Timeline)))]
#[get("/api/runs/<suite>/<number>/timeline?<from>&<to>&<width>")]
async fn timeline(
    app: &State<App>,
    _caller: MaySee,
    suite: &str,
    number: i32,
    from: Option<u64>,
    to: Option<u64>,
    width: Option<u64>,
) -> Answer<Timeline> {
    let row = find(app, suite, number).await?;
    let past = past(app, &row).await?;
    let rows = app.store.lanes(row.id, month_of(row.created_at)).await?;
    let Some(began) = row.began_at.into_iter().chain(rows.iter().map(|r| r.began_at)).min() else {
        return Ok(Json(Timeline::default()));
    };
    let over = row.phase == "finished";
    let (lanes, places) = places_of(&rows, began);
    let last = places.iter().map(|p| p.to_us).max().unwrap_or(0);
    let end = row.finished_at.filter(|_| over).unwrap_or_else(chrono::Utc::now);
    let whole = ((end - began).num_microseconds().unwrap_or(0).max(0) as u64).max(last);
    let (from, to) = (from.unwrap_or(0).min(whole), to.unwrap_or(whole).min(whole));
    if from > to {
        return Err(Refused::invalid(format!(
            "from={from} lies after to={to}: both are microseconds from the beginning"
        )));
    }
    let tail = if over { tail(&places, lanes.len() as u32) } else { None };
    let busy = busy_share(&places, lanes.len() as u32);
    let seen: Vec<Place> = places.into_iter().filter(|p| p.to_us >= from && p.from_us <= to).collect();
    let finest = (MOST_BLOCKS / lanes.len().max(1) as u64).clamp(50, 4000);
    let grain = (to - from) / width.unwrap_or(1000).clamp(50, finest);
    let cases = if past.of_files { marked(app, &row, &seen, grain).await? } else { Vec::new() };
    let blocks = blocks(seen, grain);
    // Of very many only some are named, first those that failed: a picture need not hold a list of all tests.
    let bad = blocks.iter().filter(|b| b.ended.failing() || b.outcome == Some(Outcome::Flaky));
    let of_tail = tail.iter().flat_map(|t| t.attempts.iter().map(|a| a.0));
    let named: std::collections::BTreeSet<u32> =
        of_tail.chain(bad.map(|b| b.entry)).chain(blocks.iter().map(|b| b.entry)).take(MOST_NAMED).collect();
    let names = named.into_iter().map(|entry| (entry, name_of(&past.plan, entry))).collect();
    Ok(Json(Timeline { began_at: Some(began), lanes, blocks, cases, names, from_us: from, to_us: to, busy, tail }))
}

/// The cases of those attempts of files that are long enough to show them.
async fn marked(app: &App, row: &RunRow, seen: &[Place], grain_us: u64) -> Result<Vec<CaseMark>, Refused> {
    let spent = |p: &&Place| p.to_us.saturating_sub(p.from_us);
    let mut long: Vec<&Place> = seen.iter().filter(|p| spent(p) > grain_us * LEAST_GRAINS).collect();
    long.sort_by_key(|p| std::cmp::Reverse((spent(p), p.entry, p.number)));
    long.truncate(MOST_WITH_CASES);
    let of: Vec<(i32, i32)> = long.iter().map(|p| (p.entry as i32, p.number as i32)).collect();
    let mut told: HashMap<(u32, u32), Vec<ToldAt>> = HashMap::new();
    for case in app.store.cases_of_attempts(row.id, month_of(row.created_at), &of, MOST_MARKED).await? {
        let at = ToldAt {
            title: case.title,
            ended: Ended::of(&case.ended).unwrap_or(Ended::Lost),
            decided: case.outcome.as_deref().and_then(Outcome::of),
            spent_us: case.spent_us.max(0) as u64,
        };
        told.entry((case.entry as u32, case.number as u32)).or_default().push(at);
    }
    let of = |p: &&Place| told.get(&(p.entry, p.number)).map(|told| marks(p, told, grain_us * 2)).unwrap_or_default();
    Ok(long.iter().flat_map(of).collect())
}

fn side_by_side(plan: &Plan, outcomes: &[Option<(Outcome, u64)>]) -> Variants {
    let fresh =
        |v: &kesmo_core::suite::Variant| VariantOf { variant: v.to_string(), tally: Tally::default(), spent_us: 0 };
    let mut variants: Vec<VariantOf> = plan.variants.iter().map(fresh).collect();
    type Row = Vec<Option<(u32, Option<Outcome>)>>;
    let mut rows: BTreeMap<(&str, u32), Row> = BTreeMap::new();
    for (index, entry) in plan.entries.iter().enumerate() {
        let state = outcomes.get(index).copied().flatten();
        let of = &mut variants[usize::from(entry.variant)];
        of.spent_us += state.map_or(0, |s| s.1);
        match state {
            Some((outcome, _)) => of.tally.count(outcome),
            None => of.tally.waiting += 1,
        }
        let row =
            rows.entry((entry.name.as_str(), entry.repetition())).or_insert_with(|| vec![None; plan.variants.len()]);
        let (place, outcome) = (&mut row[usize::from(entry.variant)], state.map(|s| s.0));
        // Of a file that is cut, what its parts come to, and the first of them that came to it.
        match place {
            Some(known) => {
                let together = Outcome::of_parts(known.1, outcome);
                if together != known.1 {
                    *known = (index as u32, together);
                }
            }
            None => *place = Some((index as u32, outcome)),
        }
    }
    let differs = |row: &Row| {
        let mut known = row.iter().flatten().filter_map(|(_, outcome)| *outcome);
        let first = known.next();
        known.any(|outcome| Some(outcome) != first)
    };
    let differing: Vec<Differing> = rows
        .into_iter()
        .filter(|(_, row)| differs(row))
        .map(|((test, _), entries)| Differing { test: test.to_owned(), entries })
        .collect();
    let total = differing.len() as u32;
    Variants { variants, differing: differing.into_iter().take(MOST_DIFFERING).collect(), total }
}

#[cfg(test)]
mod tests {
    use kesmo_core::{name::TestName, plan::PlannedEntry, suite::Variant};

    use super::*;

    fn plan() -> Plan {
        let variant = |value: &str| Variant::of(vec![("screen".into(), value.into())]);
        let entry = |(name, variant)| PlannedEntry { variant, ..PlannedEntry::plain(TestName::parse(name).unwrap()) };
        Plan {
            variants: vec![variant("phone"), variant("desk")],
            entries: [("a", 0), ("b", 0), ("a", 1), ("b", 1), ("c", 1)].into_iter().map(entry).collect(),
            claim_sets: vec![vec![]],
            ..Plan::default()
        }
    }

    #[test]
    fn variants_stand_side_by_side_where_they_differ() {
        use Outcome::{Failed, Passed};
        let outcomes = [Some((Passed, 5)), Some((Passed, 5)), Some((Passed, 7)), Some((Failed, 7)), None];
        let seen = side_by_side(&plan(), &outcomes);
        assert_eq!(seen.total, 1);
        assert_eq!(seen.differing[0].test, "b");
        assert_eq!(seen.differing[0].entries, [Some((1, Some(Passed))), Some((3, Some(Failed)))]);
        assert_eq!((seen.variants[0].tally.passed, seen.variants[1].tally.failed), (2, 1));
        assert_eq!((seen.variants[1].tally.waiting, seen.variants[1].spent_us), (1, 14));
    }

    #[test]
    fn what_was_around_an_attempt_is_told_apart_by_process_and_time() {
        let at = |ms: i64| chrono::DateTime::from_timestamp_millis(ms).expect("a time");
        let place = |entry, batch, slot, began, spent: i64| PlaceRow {
            entry,
            number: 1,
            batch,
            slot,
            began_at: at(began),
            spent_us: spent * 1000,
        };
        let places =
            [place(0, 1, 0, 0, 100), place(1, 2, 1, 50, 40), place(3, 2, 1, 150, 900), place(2, 1, 0, 100, 100)];
        let attempt = AttemptRow {
            entry: 2,
            number: 1,
            batch: 1,
            worker: "heron".into(),
            slot: 0,
            began_at: at(100),
            spent_us: 100_000,
            ended: "failed".into(),
            decided: None,
            message: String::new(),
            detail: String::new(),
            steps: serde_json::Value::Null,
            log_bytes: 0,
            busy: 2,
            of_slots: 2,
            expected_us: None,
        };
        let around = around_one(&plan(), &places, &attempt);
        assert_eq!(around.before, ["a (screen=phone)"]);
        assert_eq!(around.on_worker, ["b (screen=phone)"]);
        assert_eq!(around.beside, ["b (screen=desk)"]);
        assert_eq!((around.before_count, around.place), (1, 2));
    }
}

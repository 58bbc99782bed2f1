//! Trying a suite: it is listed, a few of its tests are run, and what comes back is told as it was heard. Nothing is judged,
//! and nothing is remembered.

use std::collections::BTreeMap;

use kesmo_core::{
    plan::Plan,
    run::{BatchEnd, ToRun},
    suite::{
        file::NamesAs,
        tried::{Printed, Tried, TriedProcess, TriedResult},
    },
    time::Span,
    words::Ended,
};
use kesmo_wire::link::{BatchKey, Grant, GrantedEntry, Setup, ToWorker, WorkerEvent};
use kesmo_worker::Hearing;
use tokio::time::Instant;

use crate::{Error, Job, Place, RUN};

/// What is tried next, for whoever watches.
pub enum Trying {
    Listing,
    Running(Vec<String>),
}

/// Lists a suite's tests and runs `most` of those that are picked: each by itself, then all in one process where one takes
/// several. The job's slots, history and portion say nothing here.
///
/// # Errors
/// If the worker's home cannot be used, the tests cannot be listed, or nothing is picked.
pub async fn try_out(
    job: &Job,
    most: usize,
    tell: impl FnMut(Trying),
    stop: impl Future<Output = ()>,
) -> Result<Tried, Error> {
    let hearing = Hearing::default();
    let place = Place::open(job, Some(hearing.clone())).await?;
    let closing = place.slots.closing();
    let tried = try_in(job, place, hearing, most, tell, stop).await;
    closing.close().await;
    tried
}

async fn try_in(
    job: &Job,
    mut place: Place,
    hearing: Hearing,
    most: usize,
    mut tell: impl FnMut(Trying),
    stop: impl Future<Output = ()>,
) -> Result<Tried, Error> {
    tokio::pin!(stop);
    let stopped = || Error::Void("it was stopped".into());
    let variants = job.file.facets.chosen(&job.options.variants)?;
    let Some(variant) = variants.into_iter().next() else { return Err(Error::Void("it has no variant".into())) };
    tell(Trying::Listing);
    let began = Instant::now();
    let listed = tokio::select! {
        listed = place.list(&variant) => listed?,
        () = &mut stop => return Err(stopped()),
    };
    let listing_us = since(began);
    let count = listed.len();
    let setup = Setup { variant: variant.pairs().to_vec(), ..place.setup.clone() };
    let plan = Plan::make(&job.file, &job.options, &[(variant, listed)], &[], |_, _| None)
        .map_err(|e| Error::Void(e.to_string()))?;
    let chosen = spread(plan.entries.len(), most);
    let mut tried = Tried { listed: count, picked: plan.entries.len(), listing_us, ..Tried::default() };
    let mut batches: Vec<Vec<u32>> = chosen.iter().map(|index| vec![*index]).collect();
    if job.file.tests.names_as != NamesAs::OneEach && chosen.len() > 1 {
        batches.push(chosen.clone());
    }
    for (number, entries) in (1..).zip(batches) {
        let key = BatchKey { run: RUN, batch: number };
        let entries: Vec<GrantedEntry> = entries.iter().map(|index| GrantedEntry::new(*index, &plan)).collect();
        tell(Trying::Running(entries.iter().map(|e| e.name.clone()).collect()));
        let grant = Grant {
            key,
            slot: 0,
            setup: setup.clone(),
            attempt: (entries.len() == 1).then_some(1),
            entries,
            to_run: ToRun::default(),
            more: false,
            sender: None,
        };
        let process = tokio::select! {
            process = run_one(&mut place, grant, &hearing) => process,
            () = &mut stop => return Err(stopped()),
        };
        if chosen.len() > 1 && number as usize > chosen.len() {
            tried.together = Some(process);
        } else {
            tried.alone.push(process);
        }
    }
    Ok(tried)
}

/// So many of them, from the first to the last.
fn spread(all: usize, most: usize) -> Vec<u32> {
    let count = all.min(most.max(1));
    let at = |i: usize| if count == 1 { 0 } else { i * (all - 1) / (count - 1) };
    (0..count).map(|i| at(i) as u32).collect()
}

fn since(began: Instant) -> Span {
    Span(u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX))
}

async fn run_one(place: &mut Place, grant: Grant, hearing: &Hearing) -> TriedProcess {
    let key = grant.key;
    let entries: BTreeMap<u32, GrantedEntry> = grant.entries.iter().map(|e| (e.index, e.clone())).collect();
    let mut process =
        TriedProcess { names: grant.entries.iter().map(|e| e.name.clone()).collect(), ..TriedProcess::default() };
    let mut cases: BTreeMap<u32, Vec<_>> = BTreeMap::new();
    place.slots.tell(ToWorker::Grant(Box::new(grant)));
    'batch: loop {
        for event in place.slots.next().await {
            match event {
                WorkerEvent::Cases { entry, cases: told, .. } => {
                    cases.entry(entry).or_default().extend(told.into_iter().map(|c| (c.title, c.ended)));
                }
                WorkerEvent::Ended(report) => {
                    let cases = cases.remove(&report.entry).unwrap_or_default();
                    // A file is no better than its cases.
                    let worst = report.ended == Ended::Passed && cases.iter().any(|c: &(String, Ended)| c.1.failing());
                    process.results.push(TriedResult {
                        name: entries.get(&report.entry).map(|e| e.name.clone()).unwrap_or_default(),
                        limit_us: Span(entries.get(&report.entry).map_or(0, |e| e.limit_us)),
                        ended: if worst { Ended::Failed } else { report.ended },
                        message: report.message,
                        spent_us: Span(report.spent_us),
                        cases,
                    });
                }
                WorkerEvent::Note { text, .. } => process.remarks.push(text),
                WorkerEvent::Wrong { text, .. } => process.wrongs.push(text),
                WorkerEvent::BatchEnded { key: ended, end } if ended == key => {
                    if let BatchEnd::Unfit(why) = end {
                        process.unfit = Some(why);
                    }
                    break 'batch;
                }
                _ => {}
            }
        }
    }
    let heard = hearing.take(key);
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    process.took_us = heard.took;
    process.printed =
        Printed { out: text(&heard.out), err: text(&heard.err), events: text(&heard.events), xml: heard.xml };
    process
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn those_that_are_tried_are_spread_from_the_first_to_the_last() {
        assert_eq!(spread(82, 3), [0, 40, 81]);
        assert_eq!(spread(2, 3), [0, 1]);
        assert_eq!(spread(1, 3), [0]);
        assert_eq!(spread(5, 1), [0]);
        assert!(spread(0, 3).is_empty());
    }
}

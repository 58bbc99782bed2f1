//! What a run is made from: one way for all that start one, whether a person, a schedule, a webhook, a polled branch or
//! the run before it in a chain.

use std::collections::HashMap;

use kesmo_core::{
    name::Slug,
    plan::{
        Park, RunOptions,
        brief::{Brief, Changes, Origin, OriginKind, chain},
    },
    source::GitSource,
    suite::SuiteFile,
};
use kesmo_files::git;
use kesmo_floor::fetching::fetch;
use kesmo_store::{
    briefs::BriefRow,
    runs::{NewRun, RunRow},
    schedules::ScheduleRow,
    suites::SuiteRow,
};

use kesmo_wire::api::Me;

use crate::{
    access::suites,
    app::App,
    lookup::{DEFAULT_POOL, named, suite_file},
    refused::Refused,
};

/// What somebody wants to start.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// The brief as it is to run, with its suite.
    pub brief: Brief,
    pub origin: Origin,
    pub by: String,
    /// Files to run as they are, instead of those of the suite.
    pub bundle: Option<String>,
    /// Branch and commit say what is tested, also where the files do not come from version control.
    pub told: bool,
    pub schedule_id: Option<i64>,
    /// The first run of its chain.
    pub chain: Option<i64>,
}

/// What is looked up once where many are started together.
#[derive(Default)]
pub struct Looked {
    briefs: HashMap<String, Result<Brief, String>>,
    suites: HashMap<String, (SuiteRow, Vec<Park>)>,
    files: HashMap<String, SuiteFile>,
}

/// The brief of that name as it is kept; a refusal names the nearest.
///
/// # Errors
/// If there is none, or PostgreSQL does not answer.
pub async fn brief_row(app: &App, name: &str) -> Result<BriefRow, Refused> {
    if let Some(row) = app.store.brief(name).await? {
        return Ok(row);
    }
    // One that cannot be read is of no suite that is known.
    let suite = |row: &BriefRow| row.brief().ok().and_then(|brief| brief.suite).unwrap_or_default();
    let known = app.store.briefs().await?.into_iter().map(|row| (row.name.clone(), suite(&row)));
    Err(Refused::none_named("brief", name, known, "save one with `kesmo brief add`"))
}

/// The brief of that name; a refusal names the nearest.
///
/// # Errors
/// If there is none, or PostgreSQL does not answer.
pub async fn brief_named(app: &App, name: &str) -> Result<Brief, Refused> {
    Ok(brief_row(app, name).await?.brief()?)
}

/// That somebody's token or account is for the suite of a brief, and for those of the briefs that follow it.
///
/// # Errors
/// If it is not, or PostgreSQL does not answer.
pub async fn must_be_for(app: &App, me: &Me, brief: &Brief) -> Result<(), Refused> {
    if me.suites.is_empty() {
        return Ok(());
    }
    // One of no suite is refused as such.
    brief.suite.as_deref().map_or(Ok(()), |suite| suites::must_be_for(me, suite))?;
    let all = app.store.briefs().await?;
    let mut next = brief.then.clone();
    // A chain of briefs that are saved has no loop, but this one may make one: it is found when it is saved.
    for _ in 0..=all.len() {
        let Some(then) = next.and_then(|name| all.iter().find(|brief| brief.name == name)) else { break };
        let then = then.brief()?;
        suites::must_be_for(me, then.suite.as_deref().unwrap_or_default())?;
        next = then.then;
    }
    Ok(())
}

fn invalid(error: kesmo_core::Error) -> Refused {
    Refused::invalid(error.to_string())
}

/// A brief with changes over it, and its origin with what was changed.
#[must_use]
pub fn changed(name: &str, brief: &Brief, changes: Changes, origin: Origin) -> (Brief, Origin) {
    let run = brief.with(changes);
    let changed = brief.changed_in(&run);
    let origin = Origin { brief: Some(name.to_owned()), changed, replace_older: brief.replace_older, ..origin };
    (run, origin)
}

/// A random seed of 53 bits, so that every reader of JSON keeps it as it is.
fn random_seed() -> i64 {
    i64::from_str_radix(&kesmo_files::secret::random_text()[..13], 16).unwrap_or(1)
}

/// Checks what is wanted and looks up what a run is made from.
///
/// A suite from version control is not asked for its files here: they are fetched once the run is made, or before by
/// [`pin`].
///
/// # Errors
/// If the suite is gone, or the settings do not fit it.
pub async fn prepare(app: &App, wanted: Wanted, looked: &mut Looked) -> Result<NewRun, Refused> {
    let Wanted { brief, origin, by, bundle, told, schedule_id, chain } = wanted;
    brief.check().map_err(invalid)?;
    let follow = brief.follow();
    let Brief { suite, pool, branch, commit, options, .. } = brief;
    let suite = suite.ok_or_else(|| Refused::invalid("no suite is named"))?;
    if !looked.suites.contains_key(&suite) {
        let row = named(app, &suite).await?;
        let today = chrono::Utc::now().date_naive();
        let parks = app.store.parks(Some(row.id)).await?.into_iter().map(|(park, _)| park.on(today)).collect();
        looked.suites.insert(suite.clone(), (row, parks));
    }
    let Some((row, parks)) = looked.suites.get(&suite) else { return Err(Refused::invalid("no suite is named")) };
    let git = row.git_source()?.filter(|_| bundle.is_none());
    let mut new = NewRun {
        suite_id: row.id,
        pool: pool.unwrap_or_else(|| DEFAULT_POOL.to_owned()),
        seed: options.seed.map_or_else(random_seed, |s| s as i64),
        started_by: by,
        parks: parks.clone(),
        origin,
        schedule_id,
        follow,
        chain,
        branch: branch.clone(),
        commit: commit.clone(),
        ..NewRun::default()
    };
    match git {
        Some(git) => {
            let branch = branch.or_else(|| commit.is_none().then(|| git.branch.clone()).flatten());
            let source = GitSource { branch: branch.clone(), commit, ..git };
            source.check().map_err(invalid)?;
            (new.branch, new.git) = (branch, Some(source));
            // What can be told without the files of the commit.
            kesmo_core::suite::Choice::parse(&options.pick, &options.drop).map_err(invalid)?;
        }
        None => {
            // Files that are brought may be said to be of one.
            if (branch.is_some() || commit.is_some()) && !told && bundle.is_none() {
                return Err(Refused::invalid(format!(
                    "--branch and --commit are for suites from version control, or for a folder that is started as it is, and {suite} is \
                     neither: add it with `kesmo suite add --git URL`, or start its folder"
                )));
            }
            let digest = bundle.unwrap_or_else(|| row.source.clone());
            if !looked.files.contains_key(&digest) {
                let (_, file) = suite_file(app, &digest).await?;
                looked.files.insert(digest.clone(), file);
            }
            if let Some(file) = looked.files.get(&digest) {
                options.check(file).map_err(invalid)?;
            }
            new.source = Some(digest);
        }
    }
    Slug::parse("the pool", &new.pool).map_err(invalid)?;
    if (options.within.is_some() || options.budget.is_some()) && !starts_machines(app, &new.pool).await? {
        return Err(Refused::invalid(format!(
            "--within and --budget are for pools that start machines, and {} starts none: see `kesmo pool list`",
            new.pool
        )));
    }
    new.options = options;
    if new.options.each_slot && new.options.shards.is_none() {
        let file = new.source.as_ref().and_then(|digest| looked.files.get(digest));
        let needs = file.map(|file| file.needs.clone()).unwrap_or_default();
        new.options.shards = Some(slots_now(app, &new.pool, needs).await?);
    }
    Ok(new)
}

/// How many slots there are in a pool for what needs this.
async fn slots_now(app: &App, pool: &str, needs: std::collections::BTreeMap<String, String>) -> Result<u32, Refused> {
    match app.slots(pool, needs).await {
        0 => Err(Refused::invalid(format!(
            "--each-slot counts the slots that are linked in the pool {pool}, and there is none that fits: say with --shards N on how many slots \
             each test is to run"
        ))),
        slots => Ok(slots),
    }
}

/// Whether a pool starts machines by itself.
async fn starts_machines(app: &App, pool: &str) -> Result<bool, Refused> {
    let row = app.store.pool(pool).await?;
    Ok(row.map_or(Ok(false), |row| row.pool().map(|pool| pool.starts() && !row.leaving))?)
}

/// Fetches the files of a run from version control before it is made, so that whoever waits for the answer is told at once
/// what is wrong with them.
///
/// # Errors
/// If the server does not answer, or there is no such branch or commit, or the settings do not fit its suite file.
pub async fn pin(app: &App, new: &mut NewRun) -> Result<(), Refused> {
    let Some(source) = new.git.clone().filter(|_| new.source.is_none()) else { return Ok(()) };
    let fetched = fetch(&app.store, &app.git, new.suite_id, &source).await.map_err(|e| match e {
        git::Error::Away(why) => Refused::unavailable(format!("{why}: nothing was started")),
        git::Error::Wrong(why) => Refused::invalid(why),
    })?;
    new.options.check(&fetched.file).map_err(invalid)?;
    (new.source, new.commit) = (Some(fetched.digest), Some(fetched.commit));
    new.branch = new.branch.take().or(fetched.branch);
    Ok(())
}

/// What a schedule starts.
///
/// # Errors
/// If its brief or suite is gone, or the settings do not fit.
pub async fn of_schedule(
    app: &App,
    row: &ScheduleRow,
    by: &str,
    planned_us: Option<i64>,
    looked: &mut Looked,
) -> Result<NewRun, Refused> {
    let origin = Origin { kind: OriginKind::Schedule, name: Some(row.name.clone()), planned_us, ..Origin::default() };
    let changes = row.changes()?;
    let (brief, origin) = match &row.brief {
        Some(name) => {
            if !looked.briefs.contains_key(name) {
                let found = match brief_named(app, name).await {
                    Err(e) if e.0 == rocket::http::Status::ServiceUnavailable => return Err(e),
                    found => found.map_err(|e| e.1.message),
                };
                looked.briefs.insert(name.clone(), found);
            }
            match looked.briefs.get(name) {
                Some(Ok(brief)) => changed(name, brief, changes, origin),
                Some(Err(why)) => return Err(Refused::invalid(why.clone())),
                None => return Err(Refused::invalid("its brief is gone")),
            }
        }
        None => {
            let plain = Brief { suite: row.suite.clone(), ..Brief::default() };
            (plain.with(changes), origin)
        }
    };
    let wanted = Wanted { brief, origin, by: by.to_owned(), schedule_id: Some(row.id), ..Wanted::default() };
    prepare(app, wanted, looked).await
}

/// What follows a run: the next brief, with the run's labels under its own, and with its files where they are of the same
/// suite or the same repository.
///
/// # Errors
/// If the brief or its suite is gone, or the settings do not fit.
pub async fn after(app: &App, row: &RunRow, suite: &str, name: &str) -> Result<NewRun, Refused> {
    let brief = brief_named(app, name).await?;
    let before: RunOptions = row.run_options()?;
    let mut labels = before.labels;
    labels.extend(brief.options.labels.clone());
    let origin = Origin { kind: OriginKind::Chain, name: Some(format!("{suite}/{}", row.number)), ..Origin::default() };
    let next = brief.suite.as_deref().unwrap_or_default();
    let same = next == suite;
    let mut changes = Changes { options: RunOptions { labels, ..RunOptions::default() }, ..Changes::default() };
    let url = row.git_source()?.map(|g| g.url);
    let its = app.store.suite(next).await?.map(|s| s.git_source()).transpose()?.flatten().map(|g| g.url);
    let same_repository = url.is_some() && url == its;
    if same_repository || row.commit.is_some() {
        (changes.branch, changes.commit) = (row.branch.clone(), row.commit.clone());
    }
    let (run, mut origin) = changed(name, &brief, changes, origin);
    // What is passed on is no change that somebody made.
    origin.changed.clear();
    let bundle = row.source.clone().filter(|_| same && url.is_none());
    let run = if its.is_some() && !same_repository {
        Brief { branch: brief.branch, commit: brief.commit, ..run }
    } else {
        run
    };
    let wanted = Wanted {
        brief: run,
        origin,
        by: row.started_by.clone(),
        bundle,
        told: its.is_none(),
        chain: Some(row.chain.unwrap_or(row.id)),
        ..Wanted::default()
    };
    prepare(app, wanted, &mut Looked::default()).await
}

/// Hands runs that were made to the floor.
///
/// # Errors
/// If PostgreSQL does not answer: the floor that has their pool finds them by itself.
pub async fn hand_over(app: &App, rows: &[RunRow]) -> Result<(), kesmo_store::Error> {
    let ids: Vec<i64> = rows.iter().map(|r| r.id).collect();
    for run in app.store.runs_of(&ids).await? {
        app.floor.new_run(run).await;
    }
    Ok(())
}

/// What would keep a brief from running, or make its run void; nothing is started.
///
/// # Errors
/// If PostgreSQL does not answer.
pub async fn warnings(app: &App, name: Option<&str>, brief: &Brief) -> Result<Vec<String>, Refused> {
    let mut said = Vec::new();
    let Some(suite) = brief.suite.as_deref() else { return Ok(vec!["it names no suite".into()]) };
    let row = match named(app, suite).await {
        Ok(row) => row,
        Err(e) => return Ok(vec![e.1.message]),
    };
    if let Ok((_, file)) = suite_file(app, &row.source).await
        && let Err(e) = brief.options.check(&file)
    {
        said.push(e.to_string());
    }
    if row.git.is_none() && (brief.branch.is_some() || brief.commit.is_some()) {
        said.push(format!("{suite} is not from version control: its branch or commit says nothing"));
    }
    let pool = brief.pool.as_deref().unwrap_or(DEFAULT_POOL);
    if !starts_machines(app, pool).await? && app.slots(pool, std::collections::BTreeMap::new()).await == 0 {
        said.push(format!("no worker is in the pool {pool} now; start one with `kesmo worker --pool {pool}`"));
    }
    if let Some(then) = &brief.then
        && app.store.brief(then).await?.is_none()
    {
        said.push(format!("the brief {then}, which is to follow it, is not there"));
    }
    if let (Some(name), Some(_)) = (name, &brief.then) {
        let all = app.store.briefs().await?;
        let then = |of: &str| all.iter().find(|b| b.name == of).and_then(|b| b.brief().ok()?.then);
        if let Err(e) = chain(name, |of| if of == name { brief.then.clone() } else { then(of) }) {
            said.push(e.to_string());
        }
    }
    if said.is_empty()
        && let Some(why) = crate::api::planning::nothing_to_run(app, &row, brief).await
    {
        said.push(why);
    }
    Ok(said)
}

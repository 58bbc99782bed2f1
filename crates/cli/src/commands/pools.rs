//! `kesmo pool`.

use kesmo_core::{
    fleet::{CiPool, ClusterPool, EnginePool, How, Pool as PoolSpec},
    time::Span,
};
use kesmo_wire::api::{MachineOf, MachineState, NewPool, PoolOf};

use super::{files::read, print_json};
use crate::{
    arguments::{AddPool, Kind, Pool, RemovePool, ShowPool, pairs},
    context::Context,
    failure::Failure,
    view::{self, Paint, paint, safe::plain},
};

pub async fn run(command: &Pool, context: &Context) -> Result<(), Failure> {
    match command {
        Pool::Add(options) => add(options, context).await,
        Pool::List => list(context).await,
        Pool::Show(options) => show(options, context).await,
        Pool::Remove(options) => remove(options, context).await,
    }
}

async fn remove(options: &RemovePool, context: &Context) -> Result<(), Failure> {
    let (name, path) = (&options.name, format!("/api/pools/{}", options.name));
    let query = if options.forget { vec![("forget", "true".to_owned())] } else { Vec::new() };
    context.client.delete_with(&path, &query).await?;
    let gone = context.client.get::<PoolOf>(&path, &[]).await;
    match gone.ok().filter(|pool| pool.leaving) {
        Some(pool) => {
            let open = pool.machines.iter().filter(|m| !m.state.is_over()).count();
            println!("The pool {name} goes with the last of its machines: {open} are still there.");
            println!("Where nobody answers any more who could end them: kesmo pool remove {name} --forget");
        }
        None => println!("The pool {name} is removed; its runs can still be read."),
    }
    Ok(())
}

/// The pool that the options describe.
fn described(options: &AddPool) -> Result<PoolSpec, Failure> {
    let kinds = |kinds: &[Kind]| kinds.contains(&options.kind);
    let starts = kinds(&[Kind::Engine, Kind::Cluster, Kind::Ci]);
    // What means nothing for the kind would be believed to mean something.
    let means_nothing = [
        ("--least", options.least.is_some(), starts),
        ("--most", options.most.is_some(), starts),
        ("--slots", options.slots.is_some(), starts),
        ("--idle", options.idle.is_some(), starts),
        ("--offer", !options.offer.is_empty(), starts),
        ("--machines-reach", options.machines_reach.is_some(), starts),
        ("--image", options.image.is_some(), kinds(&[Kind::Engine, Kind::Cluster])),
        ("--engine", options.engine.is_some(), kinds(&[Kind::Engine])),
        ("--certificates", options.certificates.is_some(), kinds(&[Kind::Engine])),
        ("--network", options.network.is_some(), kinds(&[Kind::Engine])),
        ("--memory", options.memory.is_some(), kinds(&[Kind::Engine])),
        ("--cpus", options.cpus.is_some(), kinds(&[Kind::Engine])),
        ("--cluster", options.cluster.is_some(), kinds(&[Kind::Cluster])),
        ("--cluster-ca", options.cluster_ca.is_some(), kinds(&[Kind::Cluster])),
        ("--namespace", options.namespace.is_some(), kinds(&[Kind::Cluster])),
        ("--service-account", options.service_account.is_some(), kinds(&[Kind::Cluster])),
        ("--template", options.template.is_some(), kinds(&[Kind::Cluster])),
        ("--describe", options.describe.is_some(), kinds(&[Kind::Ci])),
        ("--secret-file", options.secret_file.is_some(), kinds(&[Kind::Cluster, Kind::Ci])),
    ];
    if let Some((option, ..)) = means_nothing.iter().find(|(_, given, means)| *given && !means) {
        let kind = word(options.kind);
        return Err(Failure::call(format!("{option} means nothing for a pool of the kind {kind}: leave it out")));
    }
    let image = || {
        let none = || Failure::call("--image: name the worker image that its machines are made of");
        options.image.clone().ok_or_else(none)
    };
    let text =
        |option: &str, file: &Option<std::path::PathBuf>| file.as_deref().map(|file| read(option, file)).transpose();
    let how = match options.kind {
        Kind::Fixed => How::Fixed,
        Kind::Engine => How::Engine(EnginePool {
            address: options.engine.clone(),
            certificates: options.certificates.clone(),
            image: image()?,
            network: options.network.clone().unwrap_or_else(|| "host".into()),
            memory: options.memory,
            cpus: options.cpus,
        }),
        Kind::Cluster => How::Cluster(ClusterPool {
            address: options.cluster.clone(),
            ca: text("--cluster-ca", &options.cluster_ca)?,
            namespace: options.namespace.clone().unwrap_or_else(|| "default".into()),
            service_account: options.service_account.clone(),
            image: image()?,
            template: text("--template", &options.template)?,
        }),
        Kind::Ci => {
            let none = || {
                Failure::call(
                    "--describe: name the file that says how jobs are started: see docs/where-runs-execute.md",
                )
            };
            let file = options.describe.as_deref().ok_or_else(none)?;
            How::Ci(Box::new(CiPool::parse(&file.display().to_string(), &read("--describe", file)?)?))
        }
    };
    let usual = PoolSpec::fixed();
    let pool = PoolSpec {
        how,
        least: options.least.unwrap_or(usual.least),
        most: options.most.unwrap_or(usual.most.max(options.least.unwrap_or(0))),
        slots: options.slots.unwrap_or(usual.slots),
        idle: options.idle.map_or(usual.idle, |idle| Span(u64::try_from(idle.as_micros()).unwrap_or(u64::MAX))),
        offers: pairs("--offer", &options.offer)?,
        url: options.machines_reach.clone(),
    };
    pool.check()?;
    Ok(pool)
}

const fn word(kind: Kind) -> &'static str {
    match kind {
        Kind::Fixed => "fixed",
        Kind::Engine => "engine",
        Kind::Cluster => "cluster",
        Kind::Ci => "ci",
    }
}

async fn add(options: &AddPool, context: &Context) -> Result<(), Failure> {
    let pool = described(options)?;
    let secret = options.secret_file.as_deref().map(|file| read("--secret-file", file)).transpose()?;
    let secret = secret.map(|secret| secret.trim().to_owned());
    let new = NewPool { pool, secret, replace: options.replace };
    let made: PoolOf = context.client.put(&format!("/api/pools/{}", options.name), &new).await?;
    if context.json {
        return print_json(&made);
    }
    println!("The pool {} is there: {}", made.name, what(&made));
    if made.job.is_some() {
        println!("What its jobs are to carry out: kesmo pool show {} --job", made.name);
    }
    Ok(())
}

/// What a pool is, in a line.
fn what(pool: &PoolOf) -> String {
    let spec = &pool.pool;
    let how = match &spec.how {
        How::Fixed => return "its workers are started by hand".to_owned(),
        How::Engine(engine) => format!("containers of {}", engine.image),
        How::Cluster(cluster) => format!("pods of {}", cluster.image),
        How::Ci(_) => "jobs of a CI server".to_owned(),
    };
    let least =
        if spec.least > 0 { format!("{} to {}", spec.least, spec.most) } else { format!("up to {}", spec.most) };
    let slots = if spec.slots == 1 { "1 slot".to_owned() } else { format!("{} slots", spec.slots) };
    format!("{least} {how}, {slots} each, which go after {} without work", spec.idle)
}

async fn list(context: &Context) -> Result<(), Failure> {
    let all: Vec<PoolOf> = context.client.get("/api/pools", &[]).await?;
    if context.json {
        return print_json(&all);
    }
    let rows = all.iter().map(|pool| {
        let count = |state: MachineState| pool.machines.iter().filter(|m| m.state == state).count();
        let coming = count(MachineState::Asked) + count(MachineState::Coming);
        let machines = match (pool.pool.starts(), coming) {
            (false, _) => String::new(),
            (true, 0) => count(MachineState::Up).to_string(),
            (true, coming) => format!("{} + {coming} coming", count(MachineState::Up)),
        };
        let why = match &pool.trouble {
            Some(trouble) => paint(Paint::Void, &format!("! {}", plain(trouble))),
            None => plain(&pool.why),
        };
        vec![
            pool.name.clone(),
            pool.pool.how.word().into(),
            machines,
            pool.workers.to_string(),
            pool.slots.to_string(),
            why,
        ]
    });
    print!("{}", view::table(&["pool", "kind", ">machines", ">workers", ">slots", "why so many"], rows.collect()));
    Ok(())
}

async fn show(options: &ShowPool, context: &Context) -> Result<(), Failure> {
    let pool: PoolOf = context.client.get(&format!("/api/pools/{}", options.name), &[]).await?;
    if context.json {
        return print_json(&pool);
    }
    if options.job {
        let kind = pool.pool.how.word();
        let none =
            || Failure::call(format!("the pool {} is of the kind {kind}: it asks no CI server for jobs", pool.name));
        let job = pool.job.as_ref().ok_or_else(none)?;
        eprintln!(
            "A job that the pool starts carries out this, with KESMO_URL and KESMO_TOKEN as the request that starts it hands them over:"
        );
        println!("{job}");
        return Ok(());
    }
    println!("{}  {}: {}", view::bold(&pool.name), pool.pool.how.word(), what(&pool));
    let offers: Vec<String> = pool.pool.offers.iter().map(|(k, v)| format!("{k}={v}")).collect();
    if !offers.is_empty() {
        println!("offers   {}", offers.join(" "));
    }
    if pool.pool.starts() {
        println!("wanted   {}", plain(&pool.why));
    }
    if let Some(start) = pool.start_us {
        println!("a start  takes {}", Span(start));
    }
    println!("here     {}, {}", counted(pool.workers, "worker"), counted(pool.slots, "slot"));
    if let (Some(by), Some(at)) = (&pool.made_by, pool.made_at) {
        println!("made     {} by {by}", view::moment(at));
    }
    if pool.leaving {
        println!("It is being removed: its machines take nothing new, and it goes with the last of them.");
    }
    if let Some(trouble) = &pool.trouble {
        println!("{}", paint(Paint::Void, &format!("! {}", plain(trouble))));
    }
    if !pool.machines.is_empty() {
        println!();
        print!("{}", machines_table(&pool.machines));
    }
    Ok(())
}

fn counted(count: u32, what: &str) -> String {
    if count == 1 { format!("1 {what}") } else { format!("{count} {what}s") }
}

fn state(machine: &MachineOf) -> String {
    let (glyph, colour) = match machine.state {
        MachineState::Asked | MachineState::Coming => ("…", Paint::Dim),
        MachineState::Up => ("≈", Paint::Running),
        MachineState::Leaving => ("▽", Paint::Skipped),
        MachineState::Ended => ("▽", Paint::Dim),
        MachineState::Failed => ("⊘", Paint::Void),
    };
    paint(colour, &format!("{glyph} {}", machine.state.word()))
}

/// Machines, a line each.
pub fn machines_table(machines: &[MachineOf]) -> String {
    let took = |m: &MachineOf| {
        let start = m.up_at.and_then(|up| u64::try_from((up - m.asked_at).num_microseconds()?).ok());
        start.map(|us| Span(us).to_string()).unwrap_or_default()
    };
    let rows = machines.iter().map(|m| {
        let link = m.link.as_ref().map(|link| format!("  {}", plain(link))).unwrap_or_default();
        vec![
            m.number.to_string(),
            m.name.clone(),
            state(m),
            m.run.clone().unwrap_or_default(),
            view::moment(m.asked_at),
            took(m),
            format!("{}{link}", plain(&m.said)),
        ]
    });
    view::table(&[">number", "machine", "state", "for", "asked", ">up after", "what is known"], rows.collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::arguments::{Command, Kesmo};
    use clap::Parser;

    fn add(words: &str) -> Result<PoolSpec, Failure> {
        let words = format!("kesmo pool add boats {words}");
        let Command::Pool(Pool::Add(options)) = Kesmo::parse_from(words.split_whitespace()).command else { panic!() };
        described(&options)
    }

    #[test]
    fn what_means_nothing_for_a_kind_is_refused() {
        for (words, why) in [
            ("--kind fixed --most 3", "--most means nothing for a pool of the kind fixed"),
            ("--kind engine --image a --template b", "--template means nothing for a pool of the kind engine"),
            ("--kind engine --image a --secret-file b", "--secret-file means nothing"),
            ("--kind ci --image a", "--image means nothing for a pool of the kind ci"),
            ("--kind engine", "--image: name the worker image"),
            ("--kind ci", "--describe: name the file"),
            ("--kind ci --describe /nowhere.toml", "--describe /nowhere.toml: No such file"),
            ("--kind engine --image a --least 9 --most 3", "--least 9 is more than --most 3"),
        ] {
            let said = add(words).unwrap_err().message;
            assert!(said.contains(why), "{words}: {said}");
        }
        let pool = add("--kind engine --image a --least 9 --idle 0s --cpus 0.5").unwrap();
        assert_eq!((pool.least, pool.most, pool.idle), (9, 9, Span::ZERO));
        assert!(matches!(pool.how, How::Engine(EnginePool { cpus: Some(500), .. })));
    }
}

//! `kesmo queue`.

use kesmo_wire::api::{MoveRun, RunSummary, StopRun};

use super::{print_json, run_path as path};
use crate::{
    arguments::{Queue, QueueCommand},
    context::Context,
    failure::Failure,
    view,
};

pub async fn run(options: &Queue, context: &Context) -> Result<(), Failure> {
    let waiting: Vec<RunSummary> = match &options.command {
        None => context.client.get("/api/queue", &[]).await?,
        Some(QueueCommand::Move(to)) => {
            let body = MoveRun { run: to.run.clone(), before: to.before.clone(), last: to.last };
            context.client.post("/api/queue/order", &body).await?
        }
        Some(QueueCommand::Remove(of)) => {
            let why = of.why.clone().or_else(|| Some("taken out of the queue".into()));
            let run: kesmo_wire::api::Run =
                context.client.post(&format!("{}/stop", path(&of.run)?), &StopRun { why }).await?;
            if context.json {
                return print_json(&run);
            }
            println!("{} is taken out of the queue.", of.run);
            return Ok(());
        }
    };
    if context.json {
        return print_json(&waiting);
    }
    if waiting.is_empty() {
        println!("No run waits.");
        return Ok(());
    }
    let rows = waiting.iter().map(|r| {
        let (place, of) = r.place.unwrap_or((0, 0));
        vec![
            r.pool.clone(),
            format!("{place} of {of}"),
            r.name.clone(),
            view::moment(r.created_at),
            r.started_by.clone(),
            r.waiting_for.clone().unwrap_or_default(),
        ]
    });
    print!("{}", view::table(&["pool", ">place", "run", "started", "by", "waits because"], rows.collect()));
    Ok(())
}

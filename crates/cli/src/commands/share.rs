//! `kesmo share`: addresses that show one thing without a sign-in.

use kesmo_wire::api::{NewShare, ShareKind, SharedAddress as Shared};

use super::print_json;
use crate::{
    arguments::Share,
    context::Context,
    failure::Failure,
    view::{self, safe::plain},
};

pub async fn run(options: &Share, context: &Context) -> Result<(), Failure> {
    if let Some(id) = options.end {
        context.client.delete(&format!("/api/shares/{id}")).await?;
        println!("The address {id} shows nothing any more.");
        return Ok(());
    }
    let (kind, suite) = match (&options.run, &options.badge, &options.feed) {
        (Some(_), _, _) => (ShareKind::Run, None),
        (None, Some(suite), _) => (ShareKind::Badge, suite.clone()),
        (None, None, Some(suite)) => (ShareKind::Feed, suite.clone()),
        (None, None, None) if options.brief.is_some() || options.branch.is_some() || options.until.is_some() => {
            return Err(Failure::call("what is to be shared? Name a run, or give --badge or --feed"));
        }
        (None, None, None) => return list(context).await,
    };
    let new = NewShare {
        kind,
        run: options.run.clone(),
        suite,
        brief: options.brief.clone(),
        branch: options.branch.clone(),
        until: options.until.clone(),
    };
    let made: Shared = context.client.post("/api/shares", &new).await?;
    if context.json {
        return print_json(&made);
    }
    // The address alone on standard output, so that a script can take it.
    let until = made.until.map_or_else(|| "until it is ended".to_owned(), |at| format!("until {}", view::moment(at)));
    eprintln!(
        "Whoever has this address sees the {} of {}, {until} (end it: kesmo share --end {}):",
        said(made.kind),
        plain(&made.of),
        made.id
    );
    println!("{}", made.address.unwrap_or_default());
    Ok(())
}

fn said(kind: ShareKind) -> &'static str {
    match kind {
        ShareKind::Run => "report",
        ShareKind::Badge => "badge",
        ShareKind::Feed => "feed",
    }
}

async fn list(context: &Context) -> Result<(), Failure> {
    let all: Vec<Shared> = context.client.get("/api/shares", &[]).await?;
    if context.json {
        return print_json(&all);
    }
    if all.is_empty() {
        println!("Nothing is shared. Share a run's report: kesmo share RUN --until 7d");
        return Ok(());
    }
    let row = |share: &Shared| {
        vec![
            share.id.to_string(),
            said(share.kind).to_owned(),
            plain(&share.of),
            share.until.map_or_else(|| "it is ended".to_owned(), view::moment),
            plain(&share.by),
            share.used_at.map_or_else(|| "never".to_owned(), view::moment),
        ]
    };
    print!(
        "{}",
        view::table(&[">number", "shows the", "of", "until", "by", "last looked at"], all.iter().map(row).collect())
    );
    Ok(())
}

//! `kesmo keep`: what is kept for how long.

use kesmo_core::{
    keep::{Kept, Rule, parse_age},
    name::did_you_mean,
    time::Bytes,
};
use kesmo_wire::api::{KeepRule, Keeping, NewKeep, Swept};

use super::print_json;
use crate::{
    arguments::{AddKeep, Keep},
    context::Context,
    failure::Failure,
    view::{self, safe::plain},
};

pub async fn run(command: &Keep, context: &Context) -> Result<(), Failure> {
    match command {
        Keep::Add(new) => add(new, context).await,
        Keep::List => list(context).await,
        Keep::Remove { name } => {
            context.client.delete(&format!("/api/keep/{name}")).await?;
            println!("The rule {} is removed: what it let go is kept from now on.", plain(name));
            Ok(())
        }
        Keep::Sweep { r#try } => {
            let Swept { freed, .. } = context.client.post(&format!("/api/sweep?try={try}"), &()).await?;
            if context.json {
                return print_json(&freed);
            }
            if *r#try {
                let bytes = if freed.bytes > 0 { format!("; {} of files", Bytes(freed.bytes)) } else { String::new() };
                println!("A sweep would remove {}{bytes}.", freed.said());
            } else {
                println!("Removed: {}.", freed.said());
            }
            Ok(())
        }
    }
}

fn rule_of(options: &AddKeep) -> Result<Rule, Failure> {
    let what = Kept::of(&options.what).ok_or_else(|| {
        let words = Kept::ALL.map(Kept::word);
        let hint = did_you_mean(&options.what, words);
        Failure::call(format!("{:?} is nothing that is kept{hint}; use {}", options.what, words.join(", ")))
    })?;
    let age_us =
        options.r#for.as_deref().map(parse_age).transpose().map_err(|why| Failure::call(format!("--for {why}")))?;
    let rule = Rule {
        what,
        suite: options.suite.clone(),
        branch: options.branch.clone(),
        age_us,
        count: options.most,
        bytes: options.size.as_deref().map(Bytes::parse).transpose()?.map(|bytes| bytes.0),
    };
    rule.check()?;
    Ok(rule)
}

async fn add(options: &AddKeep, context: &Context) -> Result<(), Failure> {
    let rule = rule_of(options)?;
    let plain_name = |text: &str| text.chars().filter(|c| c.is_ascii_alphanumeric() || *c == '-').collect::<String>();
    let usual = || {
        let places = options.suite.iter().chain(&options.branch).map(|text| plain_name(text));
        std::iter::once(rule.what.word().to_owned())
            .chain(places)
            .filter(|part| !part.is_empty())
            .collect::<Vec<_>>()
            .join("-")
    };
    let name = options.name.clone().unwrap_or_else(usual);
    let new = NewKeep { rule, replace: options.replace };
    let kept: KeepRule = context.client.put(&format!("/api/keep/{name}"), &new).await?;
    if context.json {
        return print_json(&kept);
    }
    println!("{}: kept are {}. See what that lets go: kesmo keep sweep --try", kept.name, plain(&kept.said));
    Ok(())
}

async fn list(context: &Context) -> Result<(), Failure> {
    let all: Keeping = context.client.get("/api/keep", &[]).await?;
    if context.json {
        return print_json(&all);
    }
    if all.rules.is_empty() {
        println!("Everything is kept. Say how long something is: kesmo keep add runs --for 90d");
    } else {
        let row = |rule: &KeepRule| vec![rule.name.clone(), plain(&rule.said), plain(&rule.by)];
        print!("{}", view::table(&["rule", "kept are", "by"], all.rules.iter().map(row).collect()));
    }
    for swept in &all.sweeps {
        println!("{}  removed: {}", view::moment(swept.at), plain(&swept.said));
    }
    Ok(())
}

//! `kesmo secret`: values that runs need and nobody may read back.

use std::io::{IsTerminal, Read};

use kesmo_wire::api::{NewSecret, SecretOf};

use super::print_json;
use crate::{
    arguments::{AddSecret, Secret},
    asking,
    context::Context,
    failure::Failure,
    view::{self, safe::plain},
};

pub async fn run(command: &Secret, context: &Context) -> Result<(), Failure> {
    match command {
        Secret::Add(new) => add(new, context).await,
        Secret::List => list(context).await,
        Secret::Remove { name } => {
            context.client.delete(&format!("/api/secrets/{name}")).await?;
            println!("The secret {} is removed: runs that need it do not start any more.", plain(name));
            Ok(())
        }
    }
}

async fn add(options: &AddSecret, context: &Context) -> Result<(), Failure> {
    let new = NewSecret {
        value: value(options)?,
        suites: options.suite.clone(),
        briefs: options.brief.clone(),
        git: options.for_git.clone(),
        replace: options.replace,
    };
    let kept: SecretOf = context.client.put(&format!("/api/secrets/{}", options.name), &new).await?;
    if context.json {
        return print_json(&kept);
    }
    if let Some(git) = &kept.git {
        println!("The secret {} is kept: git uses it where it calls addresses that begin with {git}", kept.name);
        return Ok(());
    }
    println!(
        "The secret {} is kept for {}. A suite is given it by a line of its suite file: [secrets] {} = \"{}\"",
        kept.name,
        places(&kept),
        kept.name.to_uppercase().replace('-', "_"),
        kept.name
    );
    Ok(())
}

/// The value: never an argument, which others of the machine could read.
fn value(options: &AddSecret) -> Result<String, Failure> {
    let read = |e: std::io::Error| Failure::call(format!("the secret cannot be read: {e}"));
    let text = match &options.from {
        Some(file) if file.as_os_str() != "-" => {
            let at = |e| Failure::call(format!("the secret cannot be read from {}: {e}", file.display()));
            std::fs::read_to_string(file).map_err(at)?
        }
        Some(_) => all_of_input().map_err(read)?,
        None if std::io::stdin().is_terminal() => {
            asking::hidden(&format!("The value of {}", plain(&options.name))).map_err(read)?
        }
        None => all_of_input().map_err(read)?,
    };
    // The end of its last line is the editor's, and not the secret's.
    Ok(asking::trimmed(&text).to_owned())
}

fn all_of_input() -> std::io::Result<String> {
    let mut text = String::new();
    std::io::stdin().lock().read_to_string(&mut text)?;
    Ok(text)
}

fn places(secret: &SecretOf) -> String {
    if let Some(git) = &secret.git {
        return format!("git at {}", plain(git));
    }
    let suites = secret.suites.iter().map(|suite| format!("runs of {suite}"));
    let briefs = secret.briefs.iter().map(|brief| format!("the brief {brief}"));
    let all: Vec<String> = suites.chain(briefs).collect();
    if all.is_empty() { "all runs".to_owned() } else { all.join(", ") }
}

async fn list(context: &Context) -> Result<(), Failure> {
    let all: Vec<SecretOf> = context.client.get("/api/secrets", &[]).await?;
    if context.json {
        return print_json(&all);
    }
    if all.is_empty() {
        println!("There is no secret. Keep one: kesmo secret add NAME");
        return Ok(());
    }
    let row = |secret: &SecretOf| {
        vec![
            secret.name.clone(),
            places(secret),
            plain(&secret.by),
            view::moment(secret.changed_at),
            secret.used_at.map_or_else(|| "never".to_owned(), view::moment),
        ]
    };
    print!("{}", view::table(&["secret", "for", "by", "changed", "last used"], all.iter().map(row).collect()));
    Ok(())
}

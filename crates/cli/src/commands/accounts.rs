//! `kesmo account` and `kesmo sessions`.

use kesmo_core::name::did_you_mean;
use kesmo_wire::api::{
    Account as Of, ChangeAccount, ChangePassword, ChoosePassword, Chosen, NewAccount, PasswordLink, Role, Session,
};

use super::print_json;
use crate::{
    arguments::{Account, Sessions},
    asking,
    context::Context,
    failure::Failure,
    view::{self, safe::plain},
};

pub async fn run(command: &Account, context: &Context) -> Result<(), Failure> {
    match command {
        Account::Add { name, role, suite } => {
            let new = NewAccount { name: name.clone(), role: role_of(role)?, suites: suite.clone() };
            told(&context.client.post("/api/accounts", &new).await?, context)
        }
        Account::Reset(named) => {
            let path = format!("/api/accounts/{}/link", named.name);
            told(&context.client.post(&path, &serde_json::json!({})).await?, context)
        }
        Account::Role { name, role, suite, all_suites } => {
            let role = role_of(role)?;
            let suites = (*all_suites || !suite.is_empty()).then(|| suite.clone());
            context.client.put_done(&format!("/api/accounts/{name}"), &ChangeAccount { role, suites }).await?;
            let of = if suite.is_empty() { String::new() } else { format!(" of {}", plain(&suite.join(", "))) };
            println!("{} is {}{of} from now on, wherever it is signed in.", plain(name), role.word());
            Ok(())
        }
        Account::Remove(named) => {
            context.client.delete(&format!("/api/accounts/{}", named.name)).await?;
            println!("The account {} is removed and signed out everywhere.", plain(&named.name));
            Ok(())
        }
        Account::List => list(context).await,
        Account::Password { key } => password(key.as_deref(), context).await,
    }
}

fn role_of(word: &str) -> Result<Role, Failure> {
    Role::of(word).filter(|role| *role != Role::Worker).ok_or_else(|| {
        let hint = did_you_mean(word, ["reader", "operator", "admin"]);
        Failure::call(format!("--role {word:?} is not a valid role of a person{hint}; use reader, operator or admin"))
    })
}

/// The link by which a password is chosen: on standard output alone, so that a script can take it.
fn told(link: &PasswordLink, context: &Context) -> Result<(), Failure> {
    if context.json {
        return print_json(link);
    }
    eprintln!(
        "The account {} ({}): whoever opens this link chooses its password. Shown this once, good once and until {}:",
        link.name,
        link.role.word(),
        view::moment(link.until)
    );
    println!("{}/password#key={}", context.service.url.trim_end_matches('/'), link.key);
    Ok(())
}

async fn list(context: &Context) -> Result<(), Failure> {
    let all: Vec<Of> = context.client.get("/api/accounts", &[]).await?;
    if context.json {
        return print_json(&all);
    }
    if all.is_empty() {
        println!("There is no account yet: kesmo account add NAME --role operator");
        return Ok(());
    }
    let row = |of: &Of| {
        let password = match (of.chosen, of.link_until) {
            _ if of.issuer.is_some() => {
                let issuer = plain(of.issuer.as_deref().unwrap_or_default());
                let last = of.confirmed_at.map(|at| format!("last {}", view::moment(at)));
                format!("signs in at {issuer}, {}", last.unwrap_or_else(|| "and may come in no more".into()))
            }
            (true, None) => "by its password".to_owned(),
            (true, Some(until)) => {
                format!("by its password; a link to choose another is good until {}", view::moment(until))
            }
            (false, Some(until)) => format!("by a password that is to be chosen until {}", view::moment(until)),
            (false, None) => format!("not yet: kesmo account reset {}", of.name),
        };
        let seen = of.seen_at.map_or_else(|| "never".to_owned(), view::moment);
        let suites = if of.suites.is_empty() { "all".to_owned() } else { plain(&of.suites.join(", ")) };
        vec![
            of.name.clone(),
            of.role.word().to_owned(),
            suites,
            password,
            of.sessions.to_string(),
            of.tokens.to_string(),
            seen,
        ]
    };
    let heads = ["account", "role", "for", "signs in", "browsers", "tokens", "last seen"];
    print!("{}", view::table(&heads, all.iter().map(row).collect()));
    Ok(())
}

/// Chooses a password: by a link, or another one of one's own account.
async fn password(link: Option<&str>, context: &Context) -> Result<(), Failure> {
    let read = |e: std::io::Error| Failure::call(format!("the password cannot be read: {e}"));
    let ask = |prompt: &str| asking::line(prompt).map(|line| asking::trimmed(&line).to_owned()).map_err(read);
    let Some(link) = link else {
        let changed = ChangePassword { old: ask("Your password")?, new: ask("Another password")? };
        context.client.put_done("/api/me/password", &changed).await?;
        println!("Your password is changed. Other browsers are signed out, and other tokens of yours have ended.");
        return Ok(());
    };
    let key = link.rsplit_once("key=").map_or(link, |(_, key)| key).to_owned();
    let chosen = ChoosePassword { key, password: ask("A password")? };
    let Chosen { name } = context.client.post("/api/password", &chosen).await?;
    println!("The password of {name} is chosen. Sign in: kesmo login {} --name {name}", context.service.url);
    Ok(())
}

pub async fn sessions(options: &Sessions, context: &Context) -> Result<(), Failure> {
    if let Some(id) = options.end {
        context.client.delete(&format!("/api/sessions/{id}")).await?;
        println!("Session {id} has ended.");
        return Ok(());
    }
    let query = if options.all { vec![("all", "true".to_owned())] } else { Vec::new() };
    let all: Vec<Session> = context.client.get("/api/sessions", &query).await?;
    if context.json {
        return print_json(&all);
    }
    if all.is_empty() {
        println!("No browser is signed in{}.", if options.all { "" } else { " as you" });
        return Ok(());
    }
    let row = |of: &Session| {
        let who = if of.by_token { format!("{} (token)", plain(&of.who)) } else { plain(&of.who) };
        vec![
            of.id.to_string(),
            who,
            view::moment(of.made_at),
            view::moment(of.seen_at),
            view::moment(of.until),
            of.address.clone(),
            plain(&kesmo_core::name::shorten(&of.about, 60)),
        ]
    };
    let heads = ["session", "who", "since", "last seen", "until", "from", "browser"];
    print!("{}", view::table(&heads, all.iter().map(row).collect()));
    Ok(())
}

//! `kesmo login` and `kesmo token`.

use std::io::{BufRead, IsTerminal, Write};

use kesmo_core::name::did_you_mean;
use kesmo_wire::api::{Audited, LogIn, Me, NewToken, Role, Token};

use super::print_json;
use crate::{
    arguments::{Audit, Login, Token as Command},
    asking,
    connection::Connection,
    context::Context,
    failure::Failure,
    saved,
    service::Service,
    view::{self, safe::plain},
};

/// Checks an address and a token, and saves them.
pub async fn login(options: &Login, connection: &Connection) -> Result<(), Failure> {
    let url = options.service.clone().or_else(|| connection.url.clone());
    let mut service = Connection { url, token: None, ..connection.clone() }.service()?;
    if let Some(name) = &options.name {
        return login_as(name, options, &mut service).await;
    }
    let token = match connection.own_token()? {
        Some(token) => token,
        None => {
            if std::io::stdin().is_terminal() {
                eprint!("Token for {}: ", service.url);
                std::io::stderr().flush().map_err(|e| Failure::trouble(e.to_string()))?;
            }
            let mut line = String::new();
            std::io::stdin().lock().read_line(&mut line).map_err(|e| Failure::trouble(e.to_string()))?;
            line.trim().to_owned()
        }
    };
    if token.is_empty() {
        return Err(Failure::call("no token was given: type it, pipe it in, or set KESMO_TOKEN"));
    }
    service.token.clone_from(&token);
    let me: Me = service.client()?.get("/api/me", &[]).await?;
    let path = saved::save(&service, &token)?;
    println!("Signed in to {} as {} ({}); saved in {}", service.url, me.name, me.role.word(), path.display());
    Ok(())
}

/// Signs in as an account, and saves a token of its own.
async fn login_as(name: &str, options: &Login, service: &mut Service) -> Result<(), Failure> {
    let password = asking::line(&format!("Password of {} at {}", plain(name), service.url))
        .map_err(|e| Failure::call(format!("the password cannot be read: {e}")))?;
    let machine = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let place: String =
        machine.to_lowercase().chars().filter(|c| c.is_ascii_alphanumeric() || *c == '-').take(30).collect();
    let asked = LogIn {
        name: name.to_owned(),
        password: asking::trimmed(&password).to_owned(),
        place: place.trim_matches('-').to_owned(),
        until: options.until.clone(),
    };
    let made: Token = service.client()?.post("/api/login", &asked).await?;
    let token = made.token.clone().unwrap_or_default();
    service.token.clone_from(&token);
    let path = saved::save(service, &token)?;
    let until = made.until.map(|until| format!(", good until {}", view::moment(until))).unwrap_or_default();
    println!(
        "Signed in to {} as {} ({}); the token {}{until} is saved in {}",
        service.url,
        plain(name),
        made.role.word(),
        made.name,
        path.display()
    );
    Ok(())
}

/// Forgets what `kesmo login` saved.
pub fn logout() -> Result<(), Failure> {
    match saved::forget()? {
        Some(path) => println!("Forgotten: {}. The token itself is good until it ends or is removed.", path.display()),
        None => println!("Nothing was saved."),
    }
    Ok(())
}

/// Who did what when.
pub async fn audit(options: &Audit, context: &Context) -> Result<(), Failure> {
    let mut query = vec![("limit", options.limit.to_string())];
    let words = [
        ("who", &options.who),
        ("what", &options.what),
        ("about", &options.about),
        ("from", &options.from),
        ("until", &options.until),
    ];
    query.extend(words.into_iter().filter_map(|(name, value)| Some((name, value.clone()?))));
    query.extend(options.refused.then(|| ("refused", "true".to_owned())));
    let mut found: Vec<Audited> = context.client.get("/api/audit", &query).await?;
    if context.json {
        return print_json(&found);
    }
    if options.json_lines {
        found.reverse();
        for one in &found {
            println!("{}", serde_json::to_string(one).map_err(|e| Failure::trouble(e.to_string()))?);
        }
        return Ok(());
    }
    if found.is_empty() {
        println!("Nothing of that kind is on record.");
        return Ok(());
    }
    let row = |one: &Audited| {
        let who =
            if one.who.is_empty() { "nobody known".to_owned() } else { format!("{} ({})", plain(&one.who), one.role) };
        let how = if one.status >= 400 { format!("refused ({})", one.status) } else { "done".to_owned() };
        let about =
            if one.note.is_empty() { plain(&one.path) } else { format!("{}: {}", plain(&one.path), plain(&one.note)) };
        vec![view::moment(one.at), who, one.what.clone(), how, one.address.clone(), about]
    };
    print!("{}", view::table(&["at", "who", "what", "", "from", "about"], found.iter().map(row).collect()));
    Ok(())
}

pub async fn token(command: &Command, context: &Context) -> Result<(), Failure> {
    match command {
        Command::Add(new) => {
            let role = Role::of(&new.role).ok_or_else(|| {
                let hint = did_you_mean(&new.role, Role::ALL.map(Role::word));
                Failure::call(format!(
                    "--role {:?} is not a valid role{hint}; use reader, operator, admin or worker",
                    new.role
                ))
            })?;
            let made: Token = context
                .client
                .post(
                    "/api/tokens",
                    &NewToken {
                        name: new.name.clone(),
                        role,
                        until: new.until.clone(),
                        suites: new.suite.clone(),
                        pools: new.pool.clone(),
                    },
                )
                .await?;
            if context.json {
                return print_json(&made);
            }
            // The token alone on standard output, so that a script can take it.
            eprintln!("Token {} ({}), shown this once:", made.name, made.role.word());
            println!("{}", made.token.unwrap_or_default());
        }
        Command::List => {
            let tokens: Vec<Token> = context.client.get("/api/tokens", &[]).await?;
            if context.json {
                return print_json(&tokens);
            }
            let rows = tokens.iter().map(|t| {
                let used = t.last_used_at.map_or_else(|| "never".to_owned(), view::moment);
                let until = t.until.map_or_else(|| "it is removed".to_owned(), view::moment);
                let begins = if t.prefix.is_empty() { String::new() } else { format!("{}…", t.prefix) };
                let of = t.account.as_ref().map(|account| format!(" (of {account})")).unwrap_or_default();
                let only = match (t.suites.is_empty(), t.pools.is_empty()) {
                    (true, true) => "all".to_owned(),
                    (false, _) => plain(&t.suites.join(", ")),
                    (true, false) => format!("pools {}", plain(&t.pools.join(", "))),
                };
                vec![
                    t.name.clone(),
                    format!("{}{of}", t.role.word()),
                    only,
                    begins,
                    view::moment(t.created_at),
                    until,
                    used,
                ]
            });
            print!(
                "{}",
                view::table(&["token", "role", "for", "begins", "made", "until", "last used"], rows.collect())
            );
        }
        Command::Remove(named) => {
            context.client.delete(&format!("/api/tokens/{}", named.name)).await?;
            println!("Token {} is removed and refused from now on.", named.name);
        }
    }
    Ok(())
}

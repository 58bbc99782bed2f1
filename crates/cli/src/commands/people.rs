//! `kesmo login` and `kesmo token`.

use std::io::{BufRead, IsTerminal, Write};

use kesmo_core::name::did_you_mean;
use kesmo_wire::api::{Me, NewToken, Role, Token};

use super::print_json;
use crate::{
    arguments::{Login, Token as Command},
    connection::Connection,
    context::Context,
    failure::Failure,
    saved, view,
};

/// Checks an address and a token, and saves them.
pub async fn login(options: &Login, connection: &Connection) -> Result<(), Failure> {
    let url = options.service.clone().or_else(|| connection.url.clone());
    let mut service = Connection { url, token: None, ..connection.clone() }.service()?;
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
            let made: Token = context.client.post("/api/tokens", &NewToken { name: new.name.clone(), role }).await?;
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
                vec![t.name.clone(), t.role.word().to_owned(), view::moment(t.created_at), used]
            });
            print!("{}", view::table(&["token", "role", "made", "last used"], rows.collect()));
        }
        Command::Remove(named) => {
            context.client.delete(&format!("/api/tokens/{}", named.name)).await?;
            println!("Token {} is removed and refused from now on.", named.name);
        }
    }
    Ok(())
}

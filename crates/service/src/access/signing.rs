//! Signing in with a name and a password: slowed where it is tried too often, and told the same whoever there is.

use kesmo_store::accounts::Slowing;
use kesmo_wire::api::{Me, Role};
use rocket::http::Status;

use super::{Record, passwords};
use crate::{app::App, refused::Refused};

/// So often a name's password may be tried before each further try has to wait, and so often somebody at one address may try any.
const OF_NAME: Slowing = Slowing { free: 5, longest: 900.0 };
const OF_ADDRESS: Slowing = Slowing { free: 30, longest: 900.0 };
/// No name is longer, in bytes.
const LONGEST_NAME: usize = 100;

/// Who a name and a password speak for.
///
/// # Errors
/// A refusal, which does not tell whether there is such a name; or that it has to wait.
pub async fn by_password(app: &App, record: &Record<'_>, name: &str, password: &str) -> Result<Me, Refused> {
    let wrong = || Refused::new(Status::Unauthorized, "unauthorized", "the name or the password is wrong");
    if name.len() > LONGEST_NAME || password.len() > passwords::LONGEST * 4 {
        return Err(wrong());
    }
    let (of_name, of_address) = (format!("account {name}"), format!("address {}", record.address()));
    for (what, slowing) in [(&of_name, OF_NAME), (&of_address, OF_ADDRESS)] {
        count(app, record, what, slowing, "with this name or from this address").await?;
    }
    let known = app.store.password_of(name).await?;
    let fits = hold(app, password.to_owned(), known.as_ref().map(|(_, _, kept)| kept.clone())).await?;
    let known = known.and_then(|(role, suites, _)| Some((Role::of(&role)?, suites)));
    let Some((role, suites)) = known.filter(|_| fits) else { return Err(wrong()) };
    app.store.tried_well(&of_name).await?;
    app.store.tried_less(&of_address).await?;
    Ok(Me { name: name.to_owned(), role, account: true, suites, pools: Vec::new(), provided: false })
}

/// Counts that signing in is tried.
///
/// # Errors
/// A refusal that says when it may be tried again, where it was tried too often.
pub async fn count(app: &App, record: &Record<'_>, what: &str, slowing: Slowing, how: &str) -> Result<(), Refused> {
    let Err(seconds) = app.store.try_once(what, slowing).await? else { return Ok(()) };
    let seconds = seconds.ceil().max(1.0) as u64;
    record.later(seconds);
    Err(Refused::too_fast(format!("signing in was tried too often {how}: try again in {seconds} s")))
}

/// Holds a password against what is kept, beside the calls; few at a time, as each takes memory and a core.
///
/// # Errors
/// If the service is ending.
async fn hold(app: &App, password: String, kept: Option<String>) -> Result<bool, Refused> {
    let _turn = app.hashing.acquire().await.map_err(|e| Refused::unavailable(e.to_string()))?;
    let held = tokio::task::spawn_blocking(move || passwords::fits(&password, kept.as_deref())).await;
    held.map_err(|e| Refused::unavailable(e.to_string()))
}

/// What is kept of a password that may be chosen.
///
/// # Errors
/// If it may not be.
pub async fn choose(app: &App, password: String, name: &str) -> Result<String, Refused> {
    passwords::check(&password, name).map_err(Refused::invalid)?;
    let _turn = app.hashing.acquire().await.map_err(|e| Refused::unavailable(e.to_string()))?;
    let hashed = tokio::task::spawn_blocking(move || passwords::hashed(&password)).await;
    hashed.map_err(|e| Refused::unavailable(e.to_string()))?.map_err(Refused::unavailable)
}

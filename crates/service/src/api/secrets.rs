//! Secrets: values that runs need and nobody may read back.

use kesmo_core::{name::Slug, source::plain_address};
use kesmo_store::secrets::SecretRow;
use kesmo_wire::api::{NewSecret, SecretOf};
use rocket::{Route, State, delete, get, http::Status, put, routes, serde::json::Json};

use super::body::{Answer, Sent, body};
use crate::{
    access::{MayKeep, MaySee},
    app::App,
    lookup::named,
    refused::Refused,
};

/// Lengths of a value, in bytes: what is shorter would be masked all over the place, and be guessed.
const SHORTEST: usize = 6;
const LONGEST: usize = 64 << 10;
/// Words in which programs report results: masked, a result would not be read.
const OF_RESULTS: [&str; 12] = [
    "passed",
    "failed",
    "skipped",
    "outcome",
    "message",
    "failure",
    "version",
    "not ok",
    "testcase",
    "testsuite",
    "testsuites",
    "Bail out!",
];
/// Suites and briefs of a secret.
const MOST_PLACES: usize = 100;

pub(super) fn routes() -> Vec<Route> {
    routes![secrets, put_secret, remove_secret]
}

fn told(row: SecretRow) -> SecretOf {
    SecretOf {
        name: row.name,
        suites: row.suites,
        briefs: row.briefs,
        by: row.made_by,
        made_at: row.made_at,
        changed_at: row.changed_at,
        used_at: row.used_at,
        git: row.git,
    }
}

/// What may be said of a value that cannot be one; never the value.
fn check(value: &str) -> Result<(), Refused> {
    let length = value.trim().len();
    if length < SHORTEST {
        return Err(Refused::invalid(format!(
            "the secret has {length} bytes, and must have {SHORTEST} at least: shorter ones would be found, and masked, in what is none"
        )));
    }
    if value.len() > LONGEST {
        return Err(Refused::invalid(format!("the secret has {} bytes, and may have 64 KiB", value.len())));
    }
    if OF_RESULTS.contains(&value.trim()) {
        return Err(Refused::invalid(
            "the secret is a word in which results are reported, and they could not be read where it is masked: choose another value",
        ));
    }
    if value.contains('\0') {
        return Err(Refused::invalid("the secret holds a NUL, which no environment can hold"));
    }
    Ok(())
}

/// The secrets, without their values.
#[utoipa::path(get, path = "/api/secrets", operation_id = "secrets", tag = "secrets", responses((status = 200, body = [SecretOf])))]
#[get("/api/secrets")]
async fn secrets(app: &State<App>, _caller: MaySee) -> Answer<Vec<SecretOf>> {
    Ok(Json(app.store.secrets().await?.into_iter().map(told).collect()))
}

/// Keeps a secret, sealed. Nobody can read it back; runs whose suite file names it are given it.
#[utoipa::path(put, path = "/api/secrets/{name}", operation_id = "put_secret", params(("name" = String, Path)), request_body = NewSecret, tag = "secrets",
    responses((status = 200, body = SecretOf), (status = 409, description = "there is one of that name"), (status = 422)))]
#[put("/api/secrets/<name>", data = "<new>")]
async fn put_secret(app: &State<App>, caller: MayKeep, name: &str, new: Sent<NewSecret>) -> Answer<SecretOf> {
    let new = body(new)?;
    let name = Slug::parse("the secret's name", name).map_err(|e| Refused::invalid(e.to_string()))?;
    check(&new.value)?;
    if new.suites.len() + new.briefs.len() > MOST_PLACES {
        return Err(Refused::invalid(format!(
            "a secret is for at most {MOST_PLACES} suites and briefs: name none for all"
        )));
    }
    for suite in &new.suites {
        named(app, suite).await?;
    }
    for brief in &new.briefs {
        if app.store.brief(brief).await?.is_none() {
            return Err(Refused::not_found(format!("there is no brief named {brief:?}")));
        }
    }
    let git = new.git.as_deref().map(plain_address).transpose().map_err(|e| Refused::invalid(e.to_string()))?;
    if git.as_ref().is_some_and(|git| git.starts_with("file:")) {
        return Err(Refused::invalid("git calls file:// by itself: a secret is for https or ssh"));
    }
    if git.is_some() && new.suites.len() + new.briefs.len() > 0 {
        return Err(Refused::invalid(
            "a secret that git uses is given to no run: say either where git uses it, or for which runs it is",
        ));
    }
    let others = app.store.secrets().await?;
    if let Some(other) = others.iter().find(|other| git.is_some() && other.git == git && other.name != name.as_str()) {
        return Err(Refused::conflict(format!("git uses the secret {} there already", other.name)));
    }
    let places = (new.suites.as_slice(), new.briefs.as_slice());
    if !app.store.put_secret(name.as_str(), &new.value, places, git.as_deref(), &caller.0.name, new.replace).await? {
        return Err(Refused::conflict(format!("there is a secret named {name} already: change it with --replace")));
    }
    let row = app.store.secrets().await?.into_iter().find(|row| row.name == name.as_str());
    row.map(|row| Json(told(row))).ok_or_else(|| Refused::not_found(format!("the secret {name} was removed meanwhile")))
}

/// Removes a secret: runs that need it do not start any more.
#[utoipa::path(delete, path = "/api/secrets/{name}", operation_id = "remove_secret", params(("name" = String, Path)), tag = "secrets",
    responses((status = 204), (status = 404)))]
#[delete("/api/secrets/<name>")]
async fn remove_secret(app: &State<App>, _caller: MayKeep, name: &str) -> Result<Status, Refused> {
    if !app.store.remove_secret(name).await? {
        return Err(Refused::not_found(format!("there is no secret named {name:?}")));
    }
    Ok(Status::NoContent)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_that_cannot_be_a_secret_is_refused_without_being_told() {
        for (value, why) in
            [("k9!xz", "5 bytes"), ("  q  ", "1 bytes"), ("with\0nul", "NUL"), (&*"y".repeat(LONGEST + 1), "64 KiB")]
        {
            let said = check(value).expect_err("refused").1.message;
            assert!(said.contains(why) && !said.contains(value), "{said}");
        }
        assert!(check(" passed\n").expect_err("refused").1.message.contains("in which results are reported"));
        assert!(check("sesame").is_ok());
    }
}

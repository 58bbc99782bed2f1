//! What calls name, found: suites, their files, and digests.

use kesmo_core::suite::{SuiteFile, file::FILE_NAME};
use kesmo_store::suites::SuiteRow;
use kesmo_wire::{Digest, api::Me};

use crate::{app::App, refused::Refused};

/// The pool that runs go to unless told otherwise.
pub const DEFAULT_POOL: &str = "main";

/// The digest that a caller names.
pub(crate) fn digest(text: &str) -> Result<Digest, Refused> {
    Digest::parse(text).map_err(|e| Refused::invalid(e.to_string()))
}

/// The suite file of a bundle.
pub(crate) async fn suite_file(app: &App, bundle: &str) -> Result<(String, SuiteFile), Refused> {
    let text = app.store.suite_file(digest(bundle)?.as_str()).await?;
    let text = text.ok_or_else(|| Refused::not_found(format!("the bundle {bundle} is not here: upload it first")))?;
    let file = SuiteFile::parse(FILE_NAME, &text).map_err(|e| Refused::invalid(e.to_string()))?;
    Ok((text, file))
}

/// Why a file cannot be read: it is not there, or what keeps it does not answer.
pub(crate) fn unread(e: &std::io::Error, none: impl FnOnce() -> Refused) -> Refused {
    match e.kind() {
        std::io::ErrorKind::NotFound => none(),
        _ => Refused::unavailable(format!("the file cannot be read now: {e}")),
    }
}

/// The suite of that name; a refusal names the nearest that may be seen.
pub(crate) async fn named(app: &App, name: &str) -> Result<SuiteRow, Refused> {
    if let Some(row) = app.store.suite(name).await? {
        return Ok(row);
    }
    let all = app.store.suites().await?;
    let known = all.into_iter().map(|suite| (suite.slug.clone(), suite.slug));
    Err(Refused::none_named("suite", name, known, "add one with `kesmo suite add FOLDER`"))
}

/// The suites that somebody's token or account is for; none: all.
///
/// # Errors
/// If PostgreSQL does not answer.
pub async fn suites_of(app: &App, me: &Me) -> Result<Option<Vec<SuiteRow>>, Refused> {
    if me.suites.is_empty() {
        return Ok(None);
    }
    let mut all = app.store.suites().await?;
    all.retain(|suite| me.is_for(&suite.slug));
    Ok(Some(all))
}

/// The id of the suite that is asked for, where one is.
///
/// # Errors
/// A refusal, if there is none of that name; it names the nearest.
pub async fn id_of(app: &App, name: Option<&str>) -> Result<Option<i64>, Refused> {
    match name {
        Some(name) => named(app, name).await.map(|row| Some(row.id)),
        None => Ok(None),
    }
}

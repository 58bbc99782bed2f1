//! Files of a suite from version control, and what is noted of them.

use kesmo_core::source::GitSource;
use kesmo_files::git::{self, Git};
use kesmo_store::Store;

/// Fetches a source of a suite, keeps its bundle, and says on the suite how that went.
///
/// # Errors
/// As [`Git::fetch`].
pub async fn fetch(store: &Store, git: &Git, suite_id: i64, source: &GitSource) -> Result<git::Fetched, git::Error> {
    let away = |e: kesmo_store::Error| git::Error::Away(e.to_string());
    let fetched = match git.fetch(source).await {
        Ok(fetched) => fetched,
        Err(e) => {
            if let git::Error::Away(why) = &e {
                store.put_trouble(suite_id, Some(why)).await.map_err(away)?;
            }
            return Err(e);
        }
    };
    let row = store.suite_of(suite_id).await.map_err(away)?;
    let file = &fetched.file;
    if let Some(row) = &row
        && row.slug != file.suite.as_str()
    {
        let (slug, here) = (&row.slug, &file.suite);
        return Err(git::Error::Wrong(format!("the suite file of that commit is of the suite {here}, not {slug}")));
    }
    store.add_source(&fetched.digest, &fetched.text).await.map_err(away)?;
    store.put_trouble(suite_id, None).await.map_err(away)?;
    // What the suite's own branch holds now is what is shown of it.
    let own = row.and_then(|row| row.git_source().ok().flatten());
    if source.commit.is_none() && own.is_some_and(|own| own.branch.is_none() || own.branch == fetched.branch) {
        store.put_source(suite_id, &file.about, &fetched.digest).await.map_err(away)?;
    }
    Ok(fetched)
}

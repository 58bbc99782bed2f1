//! A PostgreSQL for all trials of a file, for the trials of whatever stands on one: `#[path]` takes it in.

use std::{os::unix::fs::PermissionsExt, sync::LazyLock};

use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use kesmo_database::Postgres;

/// One cluster for all trials; it is stopped, and its folder removed, when they are done.
pub struct Cluster {
    pub postgres: Postgres,
    pub folder: tempfile::TempDir,
}

pub static CLUSTER: LazyLock<Cluster> = LazyLock::new(|| {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).expect("its rights");
    let postgres = Postgres::start(folder.path()).expect("PostgreSQL starts");
    // SAFETY: the function does not unwind, and uses nothing that is gone when the process exits.
    unsafe { libc::atexit(clear_away) };
    Cluster { postgres, folder }
});

extern "C" fn clear_away() {
    if let Err(e) = CLUSTER.postgres.stop() {
        eprintln!("{e}");
    }
    if let Err(e) = std::fs::remove_dir_all(CLUSTER.folder.path()) {
        eprintln!("{e}");
    }
}

/// The address of another database of the cluster.
pub fn url_of(database: &str) -> String {
    let url = CLUSTER.postgres.url();
    format!("{}/{database}", url.rsplit_once('/').expect("an address with a database").0)
}

/// Carries statements out.
pub async fn sql(url: &str, statements: &str) {
    let mut c = AsyncPgConnection::establish(url).await.unwrap();
    c.batch_execute(statements).await.unwrap();
}

/// What a query tells in its one column, which is text, a line each.
pub async fn told(url: &str, query: &str) -> Vec<String> {
    #[derive(diesel::QueryableByName)]
    struct Line {
        #[diesel(sql_type = diesel::sql_types::Text)]
        line: String,
    }
    let mut c = AsyncPgConnection::establish(url).await.unwrap();
    let rows: Vec<Line> =
        diesel::sql_query(format!("select line from ({query}) as told (line)")).load(&mut c).await.unwrap();
    rows.into_iter().map(|row| row.line).collect()
}

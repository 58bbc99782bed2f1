//! Copies of all that a service keeps: its database, by PostgreSQL's own tools, and its files.
//!
//! The service may go on meanwhile. The database is copied first, as it was at one moment, and then the files: what it refers to had come
//! before, and no sweep removes anything until the copy is whole.

use std::{
    fs, io,
    path::{Path, PathBuf},
};

use chrono::{DateTime, Utc};
use kesmo_database::{Postgres, dump, load};
use kesmo_files::{blobs::Blobs, objects::ObjectsAt};
use kesmo_store::sweep::Sweeping;
use kesmo_wire::Digest;
use serde::{Deserialize, Serialize};

use crate::{config::open_objects, error::Error};

/// The files of a copy.
const ABOUT: &str = "kesmo-backup.json";
const DATABASE: &str = "database.dump";
const FILES: &str = "files";
const KEY: &str = "secret-key";

/// Where a service keeps everything.
#[derive(Debug, Clone)]
pub struct Place {
    pub data: PathBuf,
    /// None: the PostgreSQL of the data folder.
    pub database: Option<String>,
    /// None: in the data folder.
    pub blobs: Option<PathBuf>,
    /// The object store in which files are kept, and the file of its key.
    pub objects: Option<(ObjectsAt, PathBuf)>,
}

/// What a copy is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct About {
    /// The program that made it.
    pub version: String,
    pub at: DateTime<Utc>,
    pub files: u64,
    pub bytes: u64,
    /// The key that seals secrets is in it.
    pub with_key: bool,
}

impl Place {
    fn blobs(&self) -> PathBuf {
        self.blobs.clone().unwrap_or_else(|| self.data.join("blobs"))
    }

    /// The object store, if files are kept in one.
    async fn objects(&self) -> Result<Option<Blobs>, Error> {
        let Some((at, key)) = &self.objects else { return Ok(None) };
        Ok(Some(Blobs::open(self.blobs())?.kept_in(open_objects(at, key).await?)))
    }
}

fn file(path: &Path) -> impl Fn(io::Error) -> Error {
    let path = path.to_owned();
    move |e| Error::file(&path, &e)
}

/// Does something with a place's database, which is started for it if it does not run.
async fn with_database<T>(place: &Place, work: impl AsyncFnOnce(String) -> Result<T, Error>) -> Result<T, Error> {
    if let Some(url) = &place.database {
        return work(url.clone()).await;
    }
    let data = place.data.clone();
    let blocked = |e: tokio::task::JoinError| Error::Web(e.to_string());
    let (postgres, ran) = tokio::task::spawn_blocking(move || Postgres::join(&data)).await.map_err(blocked)??;
    let done = work(postgres.url()).await;
    if !ran {
        tokio::task::spawn_blocking(move || postgres.stop()).await.map_err(blocked)??;
    }
    done
}

/// Copies all that a service keeps into a folder that is empty or not there yet. The key that seals secrets is left out unless it is asked
/// for: who has it with the database has their values.
///
/// # Errors
/// If the folder holds something, or something cannot be read or written.
pub async fn backup(place: &Place, to: &Path, with_key: bool) -> Result<About, Error> {
    if fs::read_dir(to).is_ok_and(|mut all| all.next().is_some()) {
        return Err(Error::Option(format!(
            "{} holds something: name a folder that is empty or not there yet",
            to.display()
        )));
    }
    if place.database.is_none() && !place.data.join("postgres-password").exists() {
        return Err(Error::Option(format!(
            "{} is no data folder of a service: give --data, and --database where it has another PostgreSQL",
            place.data.display()
        )));
    }
    fs::create_dir_all(to).map_err(file(to))?;
    fs::set_permissions(to, std::os::unix::fs::PermissionsExt::from_mode(0o700)).map_err(file(to))?;
    let (blobs, target, kept) = (place.blobs(), to.to_owned(), place.objects().await?);
    with_database(place, async |url| {
        let held = Sweeping::hold(&url).await?;
        let brought = match &kept {
            // Before the others of the folder, which then are there already.
            Some(kept) => bring_all(kept, &url, &target).await,
            None => Ok(()),
        };
        let copied = tokio::task::spawn_blocking(move || {
            brought?;
            if kept.is_none() {
                dump(&url, &target.join(DATABASE))?;
            }
            let (files, bytes) = copy_files(&blobs, &target.join(FILES), with_key)?;
            let about = About { version: env!("CARGO_PKG_VERSION").into(), at: Utc::now(), files, bytes, with_key };
            // Last: a copy without it is none.
            let path = target.join(ABOUT);
            fs::write(&path, serde_json::to_vec_pretty(&about).unwrap_or_default()).map_err(file(&path))?;
            Ok::<_, Error>(about)
        });
        let copied = copied.await.map_err(|e| Error::Web(e.to_string()));
        held.end().await;
        copied?
    })
    .await
}

/// Fills the place of a service, in which nothing is yet, from a copy. The service brings what an older one kept up to date as it starts.
///
/// # Errors
/// If the copy is not whole, the place is in use, or something cannot be read or written.
pub async fn restore(place: &Place, from: &Path) -> Result<About, Error> {
    let none = |why: String| Error::Option(format!("{} is no copy that is whole: {why}", from.display()));
    let text = fs::read(from.join(ABOUT)).map_err(|e| none(format!("{ABOUT}: {e}")))?;
    let about: About = serde_json::from_slice(&text).map_err(|e| none(format!("{ABOUT}: {e}")))?;
    let (found, _) = count_files(&from.join(FILES)).map_err(file(from))?;
    if found != about.files {
        return Err(none(format!("it has {found} files of {}", about.files)));
    }
    fs::create_dir_all(&place.data).map_err(file(&place.data))?;
    let (blobs, source, kept) = (place.blobs(), from.to_owned(), place.objects().await?);
    with_database(place, async |url| {
        let mut held = Sweeping::hold(&url).await?;
        if held.is_in_use().await? {
            return Err(Error::Option("the database holds something of Kesmo already: restore into an empty one (another --data, or --database)".into()));
        }
        let handed = match &kept {
            Some(kept) => hand_all(kept, &source.join(FILES)).await,
            None => Ok(()),
        };
        let copied = tokio::task::spawn_blocking(move || {
            handed?;
            copy_files(&source.join(FILES), &blobs, true)?;
            load(&url, &source.join(DATABASE))?;
            Ok::<_, Error>(())
        });
        let copied = copied.await.map_err(|e| Error::Web(e.to_string())).and_then(|copied| copied);
        let forgotten = match copied {
            Ok(()) => held.forget_services().await.map_err(Error::from),
            Err(e) => Err(e),
        };
        held.end().await;
        forgotten
    })
    .await?;
    Ok(about)
}

/// Copies the database, and then what the object store keeps.
async fn bring_all(kept: &Blobs, url: &str, target: &Path) -> Result<(), Error> {
    let (url, dumped) = (url.to_owned(), target.join(DATABASE));
    tokio::task::spawn_blocking(move || dump(&url, &dumped)).await.map_err(|e| Error::Web(e.to_string()))??;
    for digest in kept.all().await? {
        let (start, rest) = digest.as_str().split_at(2);
        let path = target.join(FILES).join(start).join(rest);
        let brought = async {
            tokio::fs::create_dir_all(path.parent().unwrap_or(target)).await?;
            tokio::fs::copy(kept.local(&digest).await?, &path).await
        };
        brought.await.map_err(file(&path))?;
    }
    Ok(())
}

/// Hands the files of a copy to the object store.
async fn hand_all(kept: &Blobs, from: &Path) -> Result<(), Error> {
    for path in files_in(from).map_err(file(from))? {
        let name: String = path.components().map(|part| part.as_os_str().to_string_lossy()).collect();
        let path = from.join(path);
        let digest = Digest::parse(&name).map_err(|e| Error::Option(format!("{}: {e}", path.display())))?;
        let content = tokio::fs::File::open(&path).await.map_err(file(&path))?;
        kept.take(&digest, content).await.map_err(|e| Error::Option(format!("{}: {e:?}", path.display())))?;
    }
    Ok(())
}

/// The files of blobs, each with its place below the folder.
fn files_in(folder: &Path) -> io::Result<Vec<PathBuf>> {
    let mut all = Vec::new();
    for start in fs::read_dir(folder)? {
        let start = start?;
        // Uploads that are not whole are nobody's.
        if start.file_name().len() == 2 && start.file_type()?.is_dir() {
            for rest in fs::read_dir(start.path())? {
                all.push(Path::new(&start.file_name()).join(rest?.file_name()));
            }
        }
    }
    Ok(all)
}

fn count_files(folder: &Path) -> io::Result<(u64, u64)> {
    let mut bytes = 0;
    let all = files_in(folder)?;
    for path in &all {
        bytes += fs::metadata(folder.join(path))?.len();
    }
    Ok((all.len() as u64, bytes))
}

/// Copies files; tells how many, and their bytes. Of those that are there already the content is the same, as their names say.
fn copy_files(from: &Path, to: &Path, with_key: bool) -> Result<(u64, u64), Error> {
    fs::create_dir_all(to).map_err(file(to))?;
    for path in files_in(from).map_err(file(from))? {
        let (source, target) = (from.join(&path), to.join(&path));
        if target.exists() {
            continue;
        }
        let part = target.with_extension("part");
        let copied = fs::create_dir_all(target.parent().unwrap_or(to))
            .and_then(|()| fs::copy(&source, &part))
            .and_then(|_| fs::rename(&part, &target));
        copied.map_err(file(&source))?;
    }
    let key = from.join(KEY);
    if with_key && key.exists() && !to.join(KEY).exists() {
        let text = fs::read(&key).map_err(file(&key))?;
        kesmo_files::secret::write_exactly(&to.join(KEY), &text).map_err(file(&key))?;
    }
    count_files(to).map_err(file(to))
}

//! The arguments of `kesmo/backup.rs`.

use std::path::PathBuf;

use clap::Args;
use kesmo_files::objects::ObjectsAt;

/// Where a service keeps everything.
#[derive(Debug, Args)]
pub struct Kept {
    /// The service's data folder
    #[arg(long, value_name = "DIR", default_value = ".kesmo/service")]
    pub data: PathBuf,
    /// Its PostgreSQL, if that is not its own
    #[arg(long, env = "KESMO_DATABASE", value_name = "URL", hide_env_values = true)]
    pub database: Option<String>,
    /// Where it keeps files, if that is not in the data folder
    #[arg(long, value_name = "DIR")]
    pub blobs: Option<PathBuf>,
    /// The object store in which it keeps them, as for `kesmo serve`
    #[arg(long, value_name = "URL", value_parser = ObjectsAt::parse, requires = "objects_key_file")]
    pub objects: Option<ObjectsAt>,
    /// A file that holds the key of that store, ID:SECRET
    #[arg(long, value_name = "FILE", requires = "objects")]
    pub objects_key_file: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub struct Backup {
    /// A folder that is empty or not there yet
    pub to: PathBuf,
    #[command(flatten)]
    pub kept: Kept,
    /// Also copy the key that seals secrets, if the service made it itself
    #[arg(long)]
    pub with_key: bool,
}

#[derive(Debug, Args)]
pub struct Restore {
    /// The folder of the copy
    pub from: PathBuf,
    #[command(flatten)]
    pub kept: Kept,
}

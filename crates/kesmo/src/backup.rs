//! `kesmo backup` and `kesmo restore`: copies of all that a service keeps.

use kesmo_cli::{Backup, Failure, Kept, Restore, moment, print_json};
use kesmo_core::time::Bytes;
use kesmo_service::{
    Error,
    backup::{self, Place},
};

fn place(kept: &Kept) -> Place {
    Place {
        data: kept.data.clone(),
        database: kept.database.clone(),
        blobs: kept.blobs.clone(),
        objects: kept.objects.clone().zip(kept.objects_key_file.clone()),
    }
}

fn failed(error: Error) -> Failure {
    match error {
        Error::Option(_) => Failure::call(error.to_string()),
        other => Failure::trouble(other.to_string()),
    }
}

pub async fn backup(options: &Backup, json: bool) -> Result<(), Failure> {
    let about = backup::backup(&place(&options.kept), &options.to, options.with_key).await.map_err(failed)?;
    if json {
        return print_json(&about);
    }
    println!("Copied into {}: the database, and {} files ({}).", options.to.display(), about.files, Bytes(about.bytes));
    if !about.with_key {
        println!("The key that seals secrets is not in it: keep it elsewhere (--with-key takes it in).");
    }
    Ok(())
}

pub async fn restore(options: &Restore, json: bool) -> Result<(), Failure> {
    let about = backup::restore(&place(&options.kept), &options.from).await.map_err(failed)?;
    if json {
        return print_json(&about);
    }
    println!(
        "Restored as it was at {}: the database, and {} files ({}). Start it: kesmo serve --data {}",
        moment(about.at),
        about.files,
        Bytes(about.bytes),
        options.kept.data.display()
    );
    Ok(())
}

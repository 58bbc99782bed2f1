//! Suites that are named by their folder.

use std::path::Path;

use kesmo_client::{Error, pack};

use crate::{context::Context, failure::Failure};

/// Whether a start's argument is a folder rather than a suite's name.
pub fn is_folder(argument: &str) -> bool {
    argument == "." || argument == ".." || argument.contains('/')
}

/// The suite's name and, of a folder, the bundle that was packed and uploaded.
pub async fn suite_and_bundle(suite: &str, context: &Context) -> Result<(String, Option<String>), Failure> {
    if !is_folder(suite) {
        return Ok((suite.to_owned(), None));
    }
    let bundle = pack::pack(Path::new(suite))?;
    context.client.upload(&bundle).await?;
    Ok((bundle.suite, Some(bundle.digest)))
}

/// Why a call about a suite failed. One that the service does not know may be meant as the folder of that name.
pub fn not_known(error: Error, suite: &str) -> Failure {
    let unknown = matches!(error, Error::Refused { status: 404, .. });
    let mut failure = Failure::from(error);
    if unknown && !is_folder(suite) && Path::new(suite).join("kesmo.toml").is_file() {
        failure.message += &format!("; the suite in the folder {suite} is named as ./{suite}");
    }
    failure
}

//! Suites that are named by their folder.

use std::path::Path;

use kesmo_client::pack;

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

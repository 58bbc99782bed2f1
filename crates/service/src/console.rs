//! The built console, which stands inside the program and is served by it.

use std::borrow::Cow;

use rocket::{
    Route,
    http::{ContentType, Header, Status},
    routes,
};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

#[derive(rocket::Responder)]
struct File {
    body: Cow<'static, [u8]>,
    kind: ContentType,
    cache: Header<'static>,
}

pub(crate) fn routes() -> Vec<Route> {
    routes![index, file]
}

#[rocket::get("/")]
fn index() -> Result<File, (Status, &'static str)> {
    page("index.html")
}

/// A file of the console; any other path is a page of it, drawn by `index.html`.
#[rocket::get("/<path..>", rank = 20)]
fn file(path: std::path::PathBuf) -> Result<File, (Status, &'static str)> {
    let name = path.to_string_lossy();
    if name.starts_with("api/") || name == "api" {
        return Err((Status::NotFound, "there is nothing at this address of the API; see /api/openapi.json"));
    }
    if Files::get(&name).is_some() { page(&name) } else { page("index.html") }
}

fn page(name: &str) -> Result<File, (Status, &'static str)> {
    let missing =
        "the console is not built into this program: run `npm ci && npm run build` in console/ and build again";
    let found = Files::get(name).ok_or((Status::NotFound, missing))?;
    let ending = name.rsplit('.').next().unwrap_or_default();
    // Everything under assets/ carries a hash of its content in its name.
    let cache = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    Ok(File {
        body: found.data,
        kind: ContentType::from_extension(ending).unwrap_or(ContentType::Binary),
        cache: Header::new("Cache-Control", cache),
    })
}

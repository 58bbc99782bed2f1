//! The built console, which stands inside the program and is served by it, compressed for those who take it so.

use std::{
    borrow::Cow,
    collections::HashMap,
    convert::Infallible,
    io::Write,
    sync::{Mutex, PoisonError},
};

use rocket::{
    Request, Route, State,
    http::{ContentType, Header, Status},
    request::{FromRequest, Outcome},
    routes,
};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// What goes with the files.
pub(crate) struct Made {
    /// Files that were compressed, by name.
    compressed: Mutex<HashMap<String, Vec<u8>>>,
    policy: String,
}

impl Made {
    /// What goes with them where pictures and videos may come from that place besides.
    pub(crate) fn new(outside: Option<String>) -> Self {
        let outside = outside.map(|place| format!(" {place}")).unwrap_or_default();
        let policy = format!(
            "default-src 'self'; img-src 'self' data:{outside}; media-src 'self'{outside}; style-src 'self' 'unsafe-inline'; \
             font-src 'self' data:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'"
        );
        Self { compressed: Mutex::default(), policy }
    }

    fn of(&self, name: &str, content: &[u8]) -> Vec<u8> {
        let mut known = self.compressed.lock().unwrap_or_else(PoisonError::into_inner);
        let make = || {
            let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
            // Writing into memory does not fail.
            drop(encoder.write_all(content));
            encoder.finish().unwrap_or_default()
        };
        known.entry(name.to_owned()).or_insert_with(make).clone()
    }
}

/// Whether the caller takes gzip.
pub(crate) struct TakesGzip(bool);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for TakesGzip {
    type Error = Infallible;
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Infallible> {
        let takes = request.headers().get("Accept-Encoding").any(|value| value.contains("gzip"));
        Outcome::Success(Self(takes))
    }
}

#[derive(rocket::Responder)]
struct File {
    body: Cow<'static, [u8]>,
    kind: ContentType,
    cache: Header<'static>,
    policy: Header<'static>,
    sniff: Header<'static>,
    vary: Header<'static>,
    encoding: Header<'static>,
}

pub(crate) fn routes() -> Vec<Route> {
    routes![index, file]
}

#[rocket::get("/")]
fn index(gzip: TakesGzip, made: &State<Made>) -> Result<File, (Status, &'static str)> {
    page("index.html", gzip.0, made)
}

/// A file of the console; any other path is a page of it, drawn by `index.html`.
#[rocket::get("/<path..>", rank = 20)]
fn file(path: std::path::PathBuf, gzip: TakesGzip, made: &State<Made>) -> Result<File, (Status, &'static str)> {
    let name = path.to_string_lossy();
    if name.starts_with("api/") || name == "api" {
        return Err((Status::NotFound, "there is nothing at this address of the API; see /api/openapi.json"));
    }
    let name = if Files::get(&name).is_some() { &name } else { "index.html" };
    page(name, gzip.0, made)
}

fn page(name: &str, gzip: bool, made: &Made) -> Result<File, (Status, &'static str)> {
    let missing =
        "the console is not built into this program: run `npm ci && npm run build` in console/ and build again";
    let found = Files::get(name).ok_or((Status::NotFound, missing))?;
    let ending = name.rsplit('.').next().unwrap_or_default();
    // Everything under assets/ carries a hash of its content in its name.
    let cache = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    // Fonts and pictures are compressed already.
    let gzip = gzip && matches!(ending, "html" | "js" | "css" | "svg");
    let body = if gzip { Cow::Owned(made.of(name, &found.data)) } else { found.data };
    Ok(File {
        body,
        kind: ContentType::from_extension(ending).unwrap_or(ContentType::Binary),
        cache: Header::new("Cache-Control", cache),
        // Only the console's own scripts run on its pages, whatever a test has named itself.
        policy: Header::new("Content-Security-Policy", made.policy.clone()),
        sniff: Header::new("X-Content-Type-Options", "nosniff"),
        vary: Header::new("Vary", "Accept-Encoding"),
        encoding: Header::new("Content-Encoding", if gzip { "gzip" } else { "identity" }),
    })
}

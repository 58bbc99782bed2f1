//! An object store that speaks S3: blobs are kept there, and the folder holds what was used of late.
//!
//! What nothing needs is first set aside there, and removed an hour later unless it is needed by then, so that what comes under its name
//! while it is swept is not lost.

use std::{
    path::{Path, PathBuf},
    time::{Duration, SystemTime},
};

use chrono::DateTime;
use kesmo_tls::{Trust, request::why};
use kesmo_wire::Digest;
use reqwest::{Body, StatusCode, Url};
use rusty_s3::{Bucket, Credentials, S3Action, UrlStyle, actions::ListObjectsV2};
use tokio::io::AsyncWriteExt;
use tokio_util::io::ReaderStream;

/// Where blobs are kept, and how that is reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ObjectsAt {
    pub bucket: String,
    /// What stands before each name, with a slash at its end; empty for none.
    pub prefix: String,
    pub endpoint: Url,
    pub region: String,
    /// The bucket is a part of the host's name, and not of the path.
    pub by_host: bool,
    /// A file of authorities to trust, beside the machine's own.
    pub ca: Option<PathBuf>,
    /// The address at which browsers and the command line reach the store: large files are downloaded from there, by signed addresses.
    pub signed: Option<Url>,
}

impl ObjectsAt {
    /// Reads `s3://BUCKET/PREFIX?endpoint=https://HOST&region=R&style=host&ca=FILE&signed=https://HOST`.
    ///
    /// ```
    /// let at = kesmo_files::objects::ObjectsAt::parse("s3://quay/kesmo?endpoint=https://s3.quay.example").unwrap();
    /// assert_eq!((at.bucket.as_str(), at.prefix.as_str(), at.region.as_str()), ("quay", "kesmo/", "us-east-1"));
    /// ```
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str) -> Result<Self, String> {
        let like = "write it like s3://BUCKET?endpoint=https://s3.quay.example";
        let url = Url::parse(text).map_err(|e| format!("{e}: {like}"))?;
        let bucket = url.host_str().filter(|_| url.scheme() == "s3").ok_or_else(|| like.to_owned())?.to_owned();
        let prefix = url.path().trim_matches('/').to_owned();
        let prefix = if prefix.is_empty() { prefix } else { format!("{prefix}/") };
        let (mut endpoint, mut region, mut by_host, mut ca, mut signed) =
            (None, "us-east-1".to_owned(), false, None, None);
        let web = |key: &str, at: &str| match Url::parse(at) {
            Ok(url) if matches!(url.scheme(), "https" | "http") && url.has_host() => Ok(url),
            Ok(_) => Err(format!("{key}={at} is no http or https address")),
            Err(e) => Err(format!("{key}={at}: {e}")),
        };
        for (key, value) in url.query_pairs() {
            match (key.as_ref(), value.as_ref()) {
                ("endpoint", at) => endpoint = Some(web("endpoint", at)?),
                ("signed", at) => signed = Some(web("signed", at)?),
                ("region", name) => region = name.to_owned(),
                ("style", "host") => by_host = true,
                ("style", "path") => by_host = false,
                ("ca", file) => ca = Some(PathBuf::from(file)),
                (key, value) => {
                    return Err(format!(
                        "{key}={value} is not known: use endpoint, region, style=host or style=path, ca, and signed"
                    ));
                }
            }
        }
        let endpoint = endpoint.ok_or_else(|| format!("endpoint= is missing: {like}"))?;
        Ok(Self { bucket, prefix, endpoint, region, by_host, ca, signed })
    }
}

/// An object store.
pub struct Objects {
    bucket: Bucket,
    credentials: Credentials,
    prefix: String,
    name: String,
    client: reqwest::Client,
    /// The bucket as whoever downloads reaches it.
    outside: Option<Bucket>,
}

impl std::fmt::Debug for Objects {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Objects").field(&self.name).finish()
    }
}

/// Why the store did not do what it was asked.
#[derive(Debug, thiserror::Error)]
#[error("the object store: {0}")]
pub struct Failed(String);

/// An address is signed for so long.
const SIGNED: Duration = Duration::from_secs(3600);
/// ... and one by which somebody downloads.
const DOWNLOAD: Duration = Duration::from_secs(300);
/// Nothing is heard for so long: the call is given up.
const SILENT: Duration = Duration::from_secs(30);
/// Pauses before a call is made again that failed.
const PAUSES: [Duration; 3] = [Duration::from_millis(200), Duration::from_secs(1), Duration::from_secs(3)];
/// What nothing needs stays aside for so long.
const ASIDE: Duration = Duration::from_secs(3600);
/// Objects that are listed at once.
const LISTED: usize = 1000;

/// An object as it is listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Listed {
    pub digest: Digest,
    pub modified: SystemTime,
}

impl Objects {
    /// Makes ready what calls it; `key` is what stands in the file of its key, `ID:SECRET`.
    ///
    /// # Errors
    /// In words, if the address or the key cannot be used.
    pub fn new(at: &ObjectsAt, key: &str) -> Result<Self, String> {
        let (id, secret) = key.trim().split_once(':').ok_or("the file of the key is to hold ID:SECRET, on one line")?;
        let style = if at.by_host { UrlStyle::VirtualHost } else { UrlStyle::Path };
        let bucket_at = |endpoint: &Url| {
            let bucket = Bucket::new(endpoint.clone(), style, at.bucket.clone(), at.region.clone());
            bucket.map_err(|e| format!("{}: {e}", at.bucket))
        };
        let (bucket, outside) = (bucket_at(&at.endpoint)?, at.signed.as_ref().map(bucket_at).transpose()?);
        let trust = Trust::load(at.ca.as_deref()).map_err(|e| e.to_string())?;
        let client = trust.http().connect_timeout(SILENT).read_timeout(SILENT).user_agent("Kesmo");
        let client = client.redirect(reqwest::redirect::Policy::none()).build().map_err(|e| e.to_string())?;
        let name = format!("{} at {}", at.bucket, at.endpoint);
        Ok(Self { bucket, credentials: Credentials::new(id, secret), prefix: at.prefix.clone(), name, client, outside })
    }

    fn key(&self, digest: &Digest) -> String {
        format!("{}{}", self.prefix, digest.as_str())
    }

    fn aside(&self, digest: &Digest) -> String {
        format!("{}aside/{}", self.prefix, digest.as_str())
    }

    /// Makes a call, and again where it fails for a reason that may pass. The answer's status is one of those that are waited for.
    async fn call(
        &self,
        what: &str,
        good: &[StatusCode],
        make: impl Fn() -> Result<reqwest::RequestBuilder, Failed>,
    ) -> Result<reqwest::Response, Failed> {
        let mut said = String::new();
        for pause in std::iter::once(Duration::ZERO).chain(PAUSES) {
            tokio::time::sleep(pause).await;
            match make()?.send().await {
                Ok(answer) if good.contains(&answer.status()) => return Ok(answer),
                Ok(answer) => {
                    let status = answer.status();
                    let text = answer.text().await.unwrap_or_default();
                    said = format!("{what} is answered by {status} {}", said_in(&text));
                    if status.is_client_error() && status != StatusCode::TOO_MANY_REQUESTS {
                        break;
                    }
                }
                Err(e) => said = format!("{what}: {}", why(&e)),
            }
        }
        Err(Failed(format!("{}: {said}", self.name)))
    }

    /// Makes sure that the store can be used.
    ///
    /// # Errors
    /// If it does not answer, or refuses.
    pub async fn check(&self) -> Result<(), Failed> {
        let url = || {
            let mut list = self.bucket.list_objects_v2(Some(&self.credentials));
            list.with_max_keys(1);
            list.sign(SIGNED)
        };
        self.call("looking into it", &[StatusCode::OK], || Ok(self.client.get(url()))).await.map(drop)
    }

    /// The scheme, host and port at which whoever downloads reaches the store.
    #[must_use]
    pub fn outside(&self) -> Option<String> {
        self.outside.as_ref().map(|bucket| bucket.base_url().origin().ascii_serialization())
    }

    /// An address at which whoever has it gets what is kept under a digest for a few minutes, as a file of that media type; to be kept, and
    /// not shown, with `keep`. None where nobody reaches the store, or there is nothing.
    pub(crate) async fn signed(&self, digest: &Digest, kind: &str, keep: bool) -> Result<Option<Url>, Failed> {
        let Some(outside) = &self.outside else { return Ok(None) };
        if self.head(digest).await?.is_none() && !self.take_back(digest).await? {
            return Ok(None);
        }
        let key = self.key(digest);
        let mut get = outside.get_object(Some(&self.credentials), &key);
        get.query_mut().insert("response-content-type", kind.to_owned());
        get.query_mut().insert("response-content-disposition", if keep { "attachment" } else { "inline" });
        Ok(Some(get.sign(DOWNLOAD)))
    }

    /// Keeps a file under its digest.
    pub(crate) async fn put(&self, path: &Path, digest: &Digest) -> Result<(), Failed> {
        let key = self.key(digest);
        self.call("keeping a file", &[StatusCode::OK, StatusCode::CREATED, StatusCode::NO_CONTENT], || {
            let failed = |e: std::io::Error| Failed(format!("{}: {e}", path.display()));
            let file = std::fs::File::open(path).map_err(failed)?;
            let length = file.metadata().map_err(failed)?.len();
            let file = tokio::fs::File::from_std(file);
            let url = self.bucket.put_object(Some(&self.credentials), &key).sign(SIGNED);
            Ok(self.client.put(url).header("Content-Length", length).body(Body::wrap_stream(ReaderStream::new(file))))
        })
        .await
        .map(drop)
    }

    /// Brings what is kept under a digest into a file, of at most so many bytes; false if there is nothing, also not aside.
    pub(crate) async fn get(&self, digest: &Digest, to: &Path, most: u64) -> Result<bool, Failed> {
        for again in [false, true] {
            let key = self.key(digest);
            let url = || self.bucket.get_object(Some(&self.credentials), &key).sign(SIGNED);
            let good = [StatusCode::OK, StatusCode::NOT_FOUND];
            let mut answer = self.call("reading a file", &good, || Ok(self.client.get(url()))).await?;
            if answer.status() == StatusCode::NOT_FOUND {
                if again || !self.take_back(digest).await? {
                    return Ok(false);
                }
                continue;
            }
            let failed = |e: std::io::Error| Failed(format!("{}: {e}", to.display()));
            let mut file = tokio::fs::File::create(to).await.map_err(failed)?;
            let mut bytes = 0;
            loop {
                let chunk = answer.chunk().await;
                match chunk.map_err(|e| Failed(format!("{}: a file was cut off: {}", self.name, why(&e))))? {
                    Some(chunk) => {
                        bytes += chunk.len() as u64;
                        if bytes > most {
                            return Err(Failed(format!(
                                "{}: {digest} is larger than any file that is kept",
                                self.name
                            )));
                        }
                        file.write_all(&chunk).await.map_err(failed)?;
                    }
                    None => break,
                }
            }
            file.flush().await.map_err(failed)?;
            return Ok(true);
        }
        Ok(false)
    }

    /// When what is kept under a digest came, or was asked for, and its bytes; none if there is nothing.
    async fn head(&self, digest: &Digest) -> Result<Option<(SystemTime, u64)>, Failed> {
        let key = self.key(digest);
        let url = || self.bucket.head_object(Some(&self.credentials), &key).sign(SIGNED);
        let good = [StatusCode::OK, StatusCode::NOT_FOUND];
        let answer = self.call("looking at a file", &good, || Ok(self.client.head(url()))).await?;
        if answer.status() == StatusCode::NOT_FOUND {
            return Ok(None);
        }
        let header = |name: &str| answer.headers().get(name).and_then(|value| value.to_str().ok());
        let modified = header("last-modified").and_then(|text| DateTime::parse_from_rfc2822(text).ok());
        let modified = modified.ok_or_else(|| Failed(format!("{}: it does not tell when a file came", self.name)))?;
        Ok(Some((modified.into(), header("content-length").and_then(|text| text.parse().ok()).unwrap_or(0))))
    }

    /// What is there stays for as long as something new does; false if there is nothing, also not aside.
    pub(crate) async fn touch(&self, digest: &Digest) -> Result<bool, Failed> {
        let key = self.key(digest);
        if self.copy(&key, &key).await? { Ok(true) } else { self.take_back(digest).await }
    }

    async fn take_back(&self, digest: &Digest) -> Result<bool, Failed> {
        self.copy(&self.aside(digest), &self.key(digest)).await
    }

    /// Copies within the store; false if there is nothing to copy.
    async fn copy(&self, from: &str, to: &str) -> Result<bool, Failed> {
        let source = format!("/{}/{from}", self.bucket.name());
        let headers = [("x-amz-copy-source", source.as_str()), ("x-amz-metadata-directive", "REPLACE")];
        let good = [StatusCode::OK, StatusCode::NOT_FOUND];
        let answer = self.call("copying a file", &good, || {
            let mut put = self.bucket.put_object(Some(&self.credentials), to);
            for (name, value) in headers {
                put.headers_mut().insert(name, value);
            }
            let asked = self.client.put(put.sign(SIGNED)).header("Content-Length", 0);
            Ok(headers.iter().fold(asked, |asked, (name, value)| asked.header(*name, *value)))
        });
        Ok(answer.await?.status() == StatusCode::OK)
    }

    async fn delete(&self, key: &str) -> Result<(), Failed> {
        let url = || self.bucket.delete_object(Some(&self.credentials), key).sign(SIGNED);
        let good = [StatusCode::OK, StatusCode::NO_CONTENT, StatusCode::NOT_FOUND];
        self.call("removing a file", &good, || Ok(self.client.delete(url()))).await.map(drop)
    }

    /// Sets aside what nothing needs, unless it came or was asked for since a moment; tells its bytes.
    pub(crate) async fn set_aside(&self, digest: &Digest, moment: SystemTime) -> Result<Option<u64>, Failed> {
        match self.head(digest).await? {
            Some((modified, bytes)) if modified < moment => {
                if !self.copy(&self.key(digest), &self.aside(digest)).await? {
                    return Ok(None);
                }
                self.delete(&self.key(digest)).await?;
                Ok(Some(bytes))
            }
            _ => Ok(None),
        }
    }

    /// What was set aside long enough ago.
    pub(crate) async fn long_aside(&self) -> Result<Vec<Digest>, Failed> {
        let before = SystemTime::now() - ASIDE;
        let all = self.list(&format!("{}aside/", self.prefix)).await?;
        Ok(all.into_iter().filter(|one| one.modified < before).map(|one| one.digest).collect())
    }

    /// Ends what was set aside: it is needed after all, or goes.
    pub(crate) async fn settle(&self, digest: &Digest, needed: bool) -> Result<(), Failed> {
        if needed && self.head(digest).await?.is_none() {
            self.take_back(digest).await?;
        }
        self.delete(&self.aside(digest)).await
    }

    /// All that is kept.
    pub(crate) async fn all(&self) -> Result<Vec<Listed>, Failed> {
        self.list(&self.prefix).await
    }

    async fn list(&self, prefix: &str) -> Result<Vec<Listed>, Failed> {
        let mut found = Vec::new();
        let mut next: Option<String> = None;
        loop {
            let url = || {
                let mut list = self.bucket.list_objects_v2(Some(&self.credentials));
                list.with_prefix(prefix.to_owned());
                list.with_max_keys(LISTED);
                if let Some(next) = &next {
                    list.with_continuation_token(next.clone());
                }
                list.sign(SIGNED)
            };
            let answer = self.call("listing files", &[StatusCode::OK], || Ok(self.client.get(url()))).await?;
            let odd = |e: String| Failed(format!("{}: what it lists cannot be read: {e}", self.name));
            let text = answer.text().await.map_err(|e| odd(why(&e)))?;
            let listed = ListObjectsV2::parse_response(&in_namespace(&text)).map_err(|e| odd(e.to_string()))?;
            for one in listed.contents {
                let digest = one.key.strip_prefix(prefix).and_then(|name| Digest::parse(name).ok());
                let modified = one.last_modified.and_then(|at| DateTime::parse_from_rfc3339(&at).ok());
                // What is called otherwise is somebody else's.
                if let (Some(digest), Some(modified)) = (digest, modified) {
                    found.push(Listed { digest, modified: modified.into() });
                }
            }
            next = listed.next_continuation_token;
            if next.is_none() {
                return Ok(found);
            }
        }
    }
}

/// A list in the namespace of S3, which not all stores write alike.
fn in_namespace(text: &str) -> String {
    const S3: &str = "http://s3.amazonaws.com/doc/2006-03-01/";
    let parts = text.split_once(" xmlns=\"").and_then(|(before, rest)| Some((before, rest.split_once('"')?.1)));
    match parts {
        Some((before, after)) => format!("{before} xmlns=\"{S3}\"{after}"),
        None => text.replacen("<ListBucketResult>", &format!("<ListBucketResult xmlns=\"{S3}\">"), 1),
    }
}

/// What an error's XML says.
fn said_in(text: &str) -> String {
    let of = |tag: &str| {
        let (_, rest) = text.split_once(&format!("<{tag}>"))?;
        Some(rest.split_once('<')?.0)
    };
    [of("Code"), of("Message")].into_iter().flatten().collect::<Vec<_>>().join(": ").chars().take(300).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_read_and_what_is_wrong_is_told() {
        let at =
            ObjectsAt::parse("s3://quay/a/b/?endpoint=http://127.0.0.1:9000&region=north&style=host&ca=/etc/ca.pem");
        let at = at.expect("it is one");
        assert_eq!((at.bucket.as_str(), at.prefix.as_str(), at.region.as_str()), ("quay", "a/b/", "north"));
        assert!(at.by_host && at.ca == Some(PathBuf::from("/etc/ca.pem")));
        for (text, why) in [
            ("quay", "write it like"),
            ("https://quay?endpoint=https://x", "write it like"),
            ("s3://quay", "endpoint= is missing"),
            ("s3://quay?endpoint=ftp://x", "no http or https"),
            ("s3://quay?endpont=https://x", "endpont=https://x is not known"),
        ] {
            let said = ObjectsAt::parse(text).expect_err(text);
            assert!(said.contains(why), "{text}: {said}");
        }
        assert!(Objects::new(&at_quay(), "only-an-id").expect_err("no secret").contains("ID:SECRET"));
    }

    fn at_quay() -> ObjectsAt {
        ObjectsAt::parse("s3://quay?endpoint=http://127.0.0.1:9").expect("an address")
    }

    #[test]
    fn lists_are_read_in_whatever_namespace_they_are_written() {
        let of = |root: &str| {
            let one =
                "<Contents><Key>k</Key><LastModified>2026-11-27T20:00:00.000Z</LastModified><Size>3</Size></Contents>";
            let text = format!(
                "<?xml version=\"1.0\"?><{root}><Name>quay</Name><MaxKeys>1</MaxKeys><IsTruncated>false</IsTruncated>{one}</ListBucketResult>"
            );
            let read = ListObjectsV2::parse_response(&in_namespace(&text)).map_err(|e| e.to_string());
            read.map(|listed| listed.contents.len())
        };
        for root in [
            "ListBucketResult",
            "ListBucketResult xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\"",
            "ListBucketResult xmlns=\"http://doc.s3.example/2006-03-01/\"",
        ] {
            assert_eq!(of(root), Ok(1), "{root}");
        }
    }

    #[test]
    fn what_an_error_says_is_read() {
        let said =
            said_in("<?xml version=\"1.0\"?><Error><Code>NoSuchBucket</Code><Message>it is not here</Message></Error>");
        assert_eq!(said, "NoSuchBucket: it is not here");
        assert_eq!(said_in("nonsense"), "");
    }

    #[tokio::test]
    async fn one_that_is_away_is_told_with_the_reason() {
        let objects = Objects::new(&at_quay(), "id:secret").expect("it is made");
        let said = objects.check().await.expect_err("nobody is there").to_string();
        assert!(
            said.starts_with("the object store: quay at http://127.0.0.1:9/") && said.contains("refused"),
            "{said}"
        );
    }
}

//! Signing in at a provider (OpenID Connect Core 1.0): authorisation code with PKCE (RFC 7636), an ID token that is held against the
//! provider's keys, and a role from the groups that it tells.
//!
//! What belongs to a sign-in that was begun goes into a cookie, sealed, so that any service that shares the keys takes it up, and nothing
//! has to be kept of those that are never ended.

use std::{
    path::PathBuf,
    sync::Arc,
    time::{Duration, Instant},
};

use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use chrono::Utc;
use jsonwebtoken::{Algorithm, DecodingKey, Validation, jwk::JwkSet};
use kesmo_core::name::{Slug, shorten};
use kesmo_tls::{Trust, request::why};
use kesmo_wire::api::Role;
use reqwest::Url;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use sha2::{Digest, Sha256};
use tokio::sync::Mutex;

use super::suites::check_globs;
use crate::error::Error;

/// How a provider is used.
#[derive(Debug, Clone)]
pub struct ProviderConfig {
    /// What is before `/.well-known/openid-configuration` in the address of what it says of itself.
    pub issuer: String,
    /// What this service is called there.
    pub client: String,
    /// A file with the secret that goes with that; none: the provider knows this service as a public client.
    pub secret: Option<PathBuf>,
    /// What it is called on the sign-in page.
    pub name: String,
    /// What is asked for, beside `openid`.
    pub scopes: String,
    /// The claim that holds groups; one within another is written with dots.
    pub groups: String,
    /// Which group gives what; of all that somebody is given the highest role counts.
    pub roles: Vec<Given>,
    /// A file of authorities to trust, beside the machine's own.
    pub ca: Option<PathBuf>,
}

/// What a group gives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Given {
    /// `*`: whoever can sign in there.
    pub group: String,
    pub role: Role,
    /// Globs of the suites that it is for; none: all.
    pub suites: Vec<String>,
}

/// The path to which the provider sends browsers back: a page of the console, which hands on what it brings.
pub const BACK: &str = "/signed-in";
/// So long may signing in take there.
const MINUTES: i64 = 10;
/// What the provider says of itself, and its keys, are asked for again after this.
const FRESH: Duration = Duration::from_secs(300);
/// A key that is not known, or one that did not answer, is asked for no sooner than this after the last time: else everybody would wait in
/// turn for one that hangs.
const SOONEST: Duration = Duration::from_secs(5);
/// The longest answer that is read, in bytes, and how long one may take.
const LARGEST: usize = 1 << 20;
const SOON: Duration = Duration::from_secs(10);
/// Clocks may differ by so much, in seconds.
const LEEWAY: u64 = 60;
/// What is said of a sign-in that was not begun in this browser, at this address and of late.
pub const NOT_BEGUN: &str =
    "this sign-in was begun in another browser, at another address or too long ago: sign in again";
/// What signs ID tokens: by a key that the provider alone has.
const SIGNED: [Algorithm; 9] = [
    Algorithm::RS256,
    Algorithm::RS384,
    Algorithm::RS512,
    Algorithm::PS256,
    Algorithm::PS384,
    Algorithm::PS512,
    Algorithm::ES256,
    Algorithm::ES384,
    Algorithm::EdDSA,
];

/// Why somebody is not signed in.
#[derive(Debug, thiserror::Error)]
pub enum NotIn {
    /// What came back fits no sign-in that was begun here, or the provider did not let them in.
    #[error("{0}")]
    Refused(String),
    /// Who they are is known, and that they may not come in.
    #[error("{says}")]
    NoRole { says: String, subject: String },
    /// The provider does not answer as it should.
    #[error("{0}")]
    Away(String),
}

/// A sign-in that was begun.
#[derive(Debug, Serialize, Deserialize)]
pub struct Begun {
    state: String,
    nonce: String,
    verifier: String,
    until: i64,
}

impl Begun {
    fn new() -> Self {
        let text = kesmo_files::secret::random_text;
        Self { state: text(), nonce: text(), verifier: text(), until: Utc::now().timestamp() + MINUTES * 60 }
    }
}

/// Who signed in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Person {
    /// What the provider knows them by, for ever.
    pub subject: String,
    /// What they may be called here.
    pub name: String,
    pub role: Role,
    /// Globs of the suites that it is for; none: all.
    pub suites: Vec<String>,
}

/// What a provider says of itself (OpenID Connect Discovery 1.0, 3), as far as it is used.
#[derive(Debug, Clone, Deserialize)]
struct Told {
    issuer: String,
    authorization_endpoint: String,
    token_endpoint: String,
    jwks_uri: String,
    userinfo_endpoint: Option<String>,
    #[serde(default)]
    token_endpoint_auth_methods_supported: Vec<String>,
}

#[derive(Debug, Deserialize)]
struct Tokens {
    id_token: String,
    access_token: Option<String>,
}

/// The claims of an ID token that are looked at by name.
#[derive(Debug, Deserialize)]
struct Claims {
    sub: String,
    nonce: Option<String>,
    azp: Option<String>,
    aud: Value,
    #[serde(flatten)]
    more: Map<String, Value>,
}

/// What was heard, or why nothing was, and when.
type Known = (Instant, Result<Arc<(Told, JwkSet)>, String>);

/// A provider.
pub struct Provider {
    config: ProviderConfig,
    secret: Option<String>,
    client: reqwest::Client,
    known: Mutex<Option<Known>>,
}

impl Provider {
    /// Makes ready what asks it; it need not answer yet.
    ///
    /// # Errors
    /// If the options do not hold, or their files cannot be read.
    pub fn new(config: ProviderConfig) -> Result<Self, Error> {
        let wrong = |why: String| Error::Option(why);
        secure(&config.issuer).map_err(|why| wrong(format!("--oidc-issuer: {why}")))?;
        if config.roles.is_empty() {
            return Err(wrong("--oidc-role GROUP=ROLE is missing: without one nobody could come in".into()));
        }
        for one in &config.roles {
            check_globs(&one.suites, one.role).map_err(|why| wrong(format!("--oidc-role {}: {why}", one.group)))?;
        }
        let read = |path: &PathBuf| std::fs::read_to_string(path).map_err(|e| Error::file(path, &e));
        let secret = config.secret.as_ref().map(read).transpose()?.map(|text| text.trim().to_owned());
        if secret.as_deref() == Some("") {
            return Err(wrong("--oidc-secret-file: the file is empty".into()));
        }
        let trust = Trust::load(config.ca.as_deref());
        let trust = trust.map_err(|e| wrong(e.to_string().replacen("--ca", "--oidc-ca", 1)))?;
        let client = trust.http().timeout(SOON).redirect(reqwest::redirect::Policy::none()).user_agent("Kesmo").build();
        let client = client.map_err(|e| wrong(e.to_string()))?;
        Ok(Self { config, secret, client, known: Mutex::default() })
    }

    /// What it is called on the sign-in page.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.config.name
    }

    /// Whose word it is.
    #[must_use]
    pub fn issuer(&self) -> &str {
        &self.config.issuer
    }

    /// Begins a sign-in that comes back to `back`: the address to go to, and what is to be kept until then.
    ///
    /// # Errors
    /// If the provider does not say where that is.
    pub async fn begin(&self, back: &str) -> Result<(String, Begun), NotIn> {
        let known = self.known(false).await?;
        let begun = Begun::new();
        let mut address = Url::parse(&known.0.authorization_endpoint).map_err(|e| self.odd(&e))?;
        let challenge = URL_SAFE_NO_PAD.encode(Sha256::digest(begun.verifier.as_bytes()));
        address
            .query_pairs_mut()
            .append_pair("response_type", "code")
            .append_pair("client_id", &self.config.client)
            .append_pair("redirect_uri", back)
            .append_pair("scope", &format!("openid {}", self.config.scopes))
            .append_pair("state", &begun.state)
            .append_pair("nonce", &begun.nonce)
            .append_pair("code_challenge", &challenge)
            .append_pair("code_challenge_method", "S256");
        Ok((address.into(), begun))
    }

    /// Ends a sign-in with what the browser brought back.
    ///
    /// # Errors
    /// If it was not this one, the provider does not vouch for anybody, or who it is has no role here.
    pub async fn end(&self, begun: &Begun, state: &str, code: &str, back: &str) -> Result<Person, NotIn> {
        if begun.state != state || begun.until < Utc::now().timestamp() {
            return Err(NotIn::Refused(NOT_BEGUN.into()));
        }
        let known = self.known(false).await?;
        let tokens = self.tokens(&known.0, begun, code, back).await?;
        let claims = self.claims(&tokens.id_token, begun, known).await?;
        self.person(claims, tokens.access_token.as_deref()).await
    }

    /// Asks for the tokens that a code stands for (OpenID Connect Core 1.0, 3.1.3).
    async fn tokens(&self, told: &Told, begun: &Begun, code: &str, back: &str) -> Result<Tokens, NotIn> {
        let mut form = vec![
            ("grant_type", "authorization_code"),
            ("code", code),
            ("redirect_uri", back),
            ("code_verifier", &begun.verifier),
        ];
        let mut asked = self.client.post(&told.token_endpoint).header("Accept", "application/json");
        let methods = &told.token_endpoint_auth_methods_supported;
        match &self.secret {
            // RFC 6749, 2.3.1: both are encoded as in a form before they are put together.
            Some(secret) if methods.is_empty() || methods.iter().any(|m| m == "client_secret_basic") => {
                asked = asked.basic_auth(encoded(&self.config.client), Some(encoded(secret)));
            }
            Some(secret) => form.extend([("client_id", self.config.client.as_str()), ("client_secret", secret)]),
            None => form.push(("client_id", &self.config.client)),
        }
        let body: String = url_form(&form);
        let asked = asked.header("Content-Type", "application/x-www-form-urlencoded").body(body);
        let (status, answer) = self.answer(asked).await?;
        if status.is_client_error() {
            let said: Value = serde_json::from_slice(&answer).unwrap_or_default();
            let said = [said["error"].as_str(), said["error_description"].as_str()];
            let said: Vec<String> = said.into_iter().flatten().map(|part| shorten(part, 200)).collect();
            tracing::warn!("{} does not take a sign-in's code: {status} {}", self.config.issuer, said.join(": "));
            let name = &self.config.name;
            return Err(NotIn::Refused(format!("{name} does not take this sign-in: {}", said.join(": "))));
        }
        self.read(status, &answer)
    }

    /// Holds an ID token against what it must be (OpenID Connect Core 1.0, 3.1.3.7).
    async fn claims(&self, token: &str, begun: &Begun, known: Arc<(Told, JwkSet)>) -> Result<Claims, NotIn> {
        let name = &self.config.name;
        let wrong = |why: String| {
            tracing::warn!("what {} says of who signed in does not hold: {why}", self.config.issuer);
            NotIn::Away(format!("what {name} says of who signed in does not hold: {why}"))
        };
        let header = jsonwebtoken::decode_header(token).map_err(|e| wrong(e.to_string()))?;
        if !SIGNED.contains(&header.alg) {
            return Err(wrong(format!("it is signed by {:?}", header.alg)));
        }
        let of = |keys: &JwkSet| match &header.kid {
            Some(kid) => keys.find(kid).cloned(),
            // Without a name there must be one that it can be.
            None if keys.keys.len() == 1 => keys.keys.first().cloned(),
            None => None,
        };
        let key = match of(&known.1) {
            Some(key) => key,
            // The keys may have changed since.
            None => of(&self.known(true).await?.1).ok_or_else(|| wrong("its key is none of the provider's".into()))?,
        };
        let key = DecodingKey::from_jwk(&key).map_err(|e| wrong(e.to_string()))?;
        let mut held = Validation::new(header.alg);
        held.leeway = LEEWAY;
        held.validate_nbf = true;
        held.set_issuer(&[&self.config.issuer]);
        held.set_audience(&[&self.config.client]);
        held.set_required_spec_claims(&["exp", "iss", "aud", "sub"]);
        let claims = jsonwebtoken::decode::<Claims>(token, &key, &held).map_err(|e| wrong(e.to_string()))?.claims;
        if claims.nonce.as_deref() != Some(begun.nonce.as_str()) {
            return Err(wrong("it is of another sign-in (nonce)".into()));
        }
        let several = claims.aud.as_array().is_some_and(|all| all.len() > 1);
        if claims.azp.as_ref().map_or(several, |azp| *azp != self.config.client) {
            return Err(wrong("it was made for another service (azp)".into()));
        }
        let fits = |text: &str| !text.is_empty() && text.len() <= 255 && !text.contains('\0');
        if !fits(&claims.sub) {
            return Err(wrong("its subject is empty or longer than 255 letters".into()));
        }
        Ok(claims)
    }

    /// Who it is that the claims speak of.
    async fn person(&self, claims: Claims, access: Option<&str>) -> Result<Person, NotIn> {
        let mut told = claims.more;
        // Some tell groups and names only to who asks for them.
        if claim(&told, &self.config.groups).is_none()
            && let (Some(access), Some(address)) = (access, self.known(false).await?.0.userinfo_endpoint.as_deref())
        {
            let (status, answer) = self.answer(self.client.get(address).bearer_auth(access)).await?;
            let more: Map<String, Value> = self.read(status, &answer)?;
            if more.get("sub").and_then(Value::as_str) != Some(&claims.sub) {
                return Err(NotIn::Away(format!("{} tells of somebody else than who signed in", self.config.name)));
            }
            for (key, value) in more {
                told.entry(key).or_insert(value);
            }
        }
        let groups = claim(&told, &self.config.groups).map(texts).unwrap_or_default();
        let name = called(&told, &claims.sub);
        let Some((role, suites)) = given(&self.config.roles, &groups) else {
            let says = format!(
                "{name} is known at {}, and in no group that may come in here: ask an admin of this service",
                self.config.name
            );
            return Err(NotIn::NoRole { says, subject: claims.sub });
        };
        Ok(Person { subject: claims.sub, name, role, suites })
    }

    /// What the provider says of itself, and its keys; again where a key is not known.
    async fn known(&self, key_is_missing: bool) -> Result<Arc<(Told, JwkSet)>, NotIn> {
        let mut known = self.known.lock().await;
        if let Some((at, found)) = &*known
            && at.elapsed() < if key_is_missing || found.is_err() { SOONEST } else { FRESH }
        {
            return found.clone().map_err(NotIn::Away);
        }
        let found = self.hear().await.map(Arc::new);
        *known = Some((Instant::now(), found.as_ref().map(Arc::clone).map_err(ToString::to_string)));
        found
    }

    /// Asks the provider what it is, and for its keys.
    async fn hear(&self) -> Result<(Told, JwkSet), NotIn> {
        let address = format!("{}/.well-known/openid-configuration", self.config.issuer.trim_end_matches('/'));
        let (status, answer) = self.answer(self.client.get(address)).await?;
        let told: Told = self.read(status, &answer)?;
        if told.issuer != self.config.issuer {
            let (said, asked) = (shorten(&told.issuer, 200), &self.config.issuer);
            return Err(self.odd(&format!("it calls itself {said:?}, and --oidc-issuer {asked:?}")));
        }
        let addresses = [&told.authorization_endpoint, &told.token_endpoint, &told.jwks_uri];
        for address in addresses.into_iter().chain(&told.userinfo_endpoint) {
            secure(address).map_err(|e| self.odd(&e))?;
        }
        let (status, answer) = self.answer(self.client.get(&told.jwks_uri)).await?;
        let keys: Value = self.read(status, &answer)?;
        // Keys of a kind that is not known here are passed over, and not the others with them.
        let keys = keys["keys"].as_array().into_iter().flatten();
        let keys = keys.filter(|key| key["use"].as_str().is_none_or(|of| of == "sig"));
        let keys = keys.filter_map(|key| serde_json::from_value(key.clone()).ok()).collect();
        Ok((told, JwkSet { keys }))
    }

    async fn answer(&self, asked: reqwest::RequestBuilder) -> Result<(reqwest::StatusCode, Vec<u8>), NotIn> {
        let away = |e: reqwest::Error| {
            tracing::warn!("{} does not answer: {}", self.config.issuer, why(&e));
            NotIn::Away(format!("{} does not answer: {}", self.config.name, why(&e)))
        };
        let mut answer = asked.send().await.map_err(away)?;
        let status = answer.status();
        let mut bytes = Vec::new();
        while let Some(chunk) = answer.chunk().await.map_err(away)? {
            bytes.extend_from_slice(&chunk);
            if bytes.len() > LARGEST {
                return Err(self.odd(&"its answer has more than 1 MiB"));
            }
        }
        Ok((status, bytes))
    }

    fn read<T: serde::de::DeserializeOwned>(&self, status: reqwest::StatusCode, answer: &[u8]) -> Result<T, NotIn> {
        if !status.is_success() {
            return Err(self.odd(&format!("it answers {status}")));
        }
        serde_json::from_slice(answer).map_err(|e| self.odd(&e))
    }

    fn odd(&self, why: &dyn std::fmt::Display) -> NotIn {
        tracing::warn!("{} does not answer as it should: {why}", self.config.issuer);
        NotIn::Away(format!("{} does not answer as it should: {why}", self.config.name))
    }
}

/// That what is sent to an address can be read by nobody on the way.
fn secure(address: &str) -> Result<(), String> {
    let url = Url::parse(address).map_err(|e| format!("{:?} is no address: {e}", shorten(address, 200)))?;
    let here = matches!(url.host_str(), Some("127.0.0.1" | "[::1]" | "localhost"));
    match url.scheme() {
        "https" => Ok(()),
        "http" if here => Ok(()),
        _ => Err(format!("{:?} is no https address", shorten(address, 200))),
    }
}

/// Pairs as a form sends them.
fn url_form(pairs: &[(&str, &str)]) -> String {
    let mut url = Url::parse("http://form").unwrap_or_else(|_| unreachable!("a plain address"));
    url.query_pairs_mut().extend_pairs(pairs);
    url.query().unwrap_or_default().to_owned()
}

fn encoded(text: &str) -> String {
    url_form(&[("", text)]).split_off(1)
}

/// A claim by its name, or by its path.
fn claim<'a>(told: &'a Map<String, Value>, path: &str) -> Option<&'a Value> {
    told.get(path).or_else(|| {
        let (first, rest) = path.split_once('.')?;
        claim(told.get(first)?.as_object()?, rest)
    })
}

/// The texts of a claim that is one or several.
fn texts(value: &Value) -> Vec<&str> {
    match value {
        Value::Array(all) => all.iter().filter_map(Value::as_str).collect(),
        Value::String(one) => vec![one],
        _ => Vec::new(),
    }
}

/// The highest role that one of the groups gives, and the suites of all that give it; none: all suites.
fn given(roles: &[Given], groups: &[&str]) -> Option<(Role, Vec<String>)> {
    let rank = |role: &Role| [Role::Reader, Role::Operator, Role::Admin].iter().position(|one| one == role);
    let given = || roles.iter().filter(|one| one.group == "*" || groups.contains(&one.group.as_str()));
    let role = given().map(|one| one.role).max_by_key(rank)?;
    let of_it = || given().filter(|one| one.role == role);
    let mut suites: Vec<String> = of_it().flat_map(|one| one.suites.iter().cloned()).collect();
    suites.sort();
    suites.dedup();
    Some((role, if of_it().any(|one| one.suites.is_empty()) { Vec::new() } else { suites }))
}

/// What somebody is called here: as at the provider, in the letters of a name.
fn called(told: &Map<String, Value>, subject: &str) -> String {
    let text = |key: &str| told.get(key).and_then(Value::as_str);
    let known = [text("preferred_username"), text("email"), text("name"), Some(subject)];
    let slug = |text: &str| {
        let before = text.split('@').next().unwrap_or_default().to_lowercase();
        let plain: String = before.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).take(40).collect();
        let parts: Vec<&str> = plain.split('-').filter(|part| !part.is_empty()).collect();
        Slug::parse("the name", &parts.join("-")).ok().map(|slug| slug.to_string())
    };
    known.into_iter().flatten().find_map(slug).unwrap_or_else(|| "somebody".into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn map(value: Value) -> Map<String, Value> {
        value.as_object().expect("an object").clone()
    }

    #[test]
    fn the_highest_role_of_all_groups_counts_and_none_lets_nobody_in() {
        let of = |group: &str, role: Role, suites: &[&str]| Given {
            group: group.into(),
            role,
            suites: suites.iter().map(ToString::to_string).collect(),
        };
        let roles = [
            of("crew", Role::Reader, &[]),
            of("gate-crew", Role::Operator, &["gate-*"]),
            of("lamp-crew", Role::Operator, &["lamps", "gate-*"]),
            of("pilots", Role::Operator, &[]),
            of("wardens", Role::Admin, &[]),
        ];
        let given = |groups: &[&str]| given(&roles, groups).map(|(role, suites)| (role, suites.join(" ")));
        assert_eq!(given(&["crew", "wardens", "pilots"]), Some((Role::Admin, String::new())));
        assert_eq!(given(&["pilots", "crew"]), Some((Role::Operator, String::new())));
        assert_eq!(given(&["Wardens", "guests"]), None);
        assert_eq!(given(&["crew", "gate-crew", "lamp-crew"]), Some((Role::Operator, "gate-* lamps".into())));
        assert_eq!(given(&["gate-crew", "pilots"]), Some((Role::Operator, String::new())), "one is for all");
        assert_eq!(super::given(&[of("*", Role::Reader, &[])], &[]), Some((Role::Reader, Vec::new())));
    }

    #[test]
    fn groups_are_found_by_name_or_path_one_or_several() {
        let told = map(json!({ "groups": ["a", 7, "b"], "realm": { "roles": "c" }, "x.y": ["d"] }));
        let found = |path: &str| claim(&told, path).map(texts);
        assert_eq!(found("groups"), Some(vec!["a", "b"]));
        assert_eq!(found("realm.roles"), Some(vec!["c"]));
        assert_eq!(found("x.y"), Some(vec!["d"]));
        assert_eq!(found("realm.none"), None);
    }

    #[test]
    fn people_are_called_as_there_in_the_letters_of_a_name() {
        let name = |told: Value| called(&map(told), "7f3a");
        assert_eq!(name(json!({ "preferred_username": "Ida.Quist@lantern.example" })), "ida-quist");
        assert_eq!(name(json!({ "preferred_username": "灯台", "email": "bo@lantern.example" })), "bo");
        assert_eq!(name(json!({ "name": "Ada  van Quay" })), "ada-van-quay");
        assert_eq!(name(json!({})), "7f3a");
        assert_eq!(called(&map(json!({})), "灯"), "somebody");
    }

    #[test]
    fn nothing_secret_is_sent_where_it_can_be_read() {
        for good in ["https://in.example/quay", "http://127.0.0.1:7405", "http://localhost:1"] {
            assert_eq!(secure(good), Ok(()), "{good}");
        }
        for bad in ["http://in.example", "ftp://127.0.0.1", "in.example", "http://127.0.0.1.evil.example"] {
            assert!(secure(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn what_goes_into_a_form_is_encoded() {
        assert_eq!(url_form(&[("code", "a b&c=ü"), ("x", "1")]), "code=a+b%26c%3D%C3%BC&x=1");
        assert_eq!(encoded("a:b c"), "a%3Ab+c");
    }
}

//! Secrets: sealed where they are kept, given to whom they are for, and sealed anew under another key.

use kesmo_core::{fleet::Pool, notice::Notice};
use kesmo_store::{
    Error,
    notices::NewNotice,
    pools::NewPool,
    vault::{KeySource, Vault},
    webhooks::NewWebhook,
};

use crate::Apart;

/// A key file, and a store that seals with what is in it.
async fn sealing(name: &str, keys: &[char]) -> (tempfile::NamedTempFile, Apart) {
    let file = tempfile::NamedTempFile::new().unwrap();
    write_keys(&file, keys);
    let vault = Vault::open(KeySource::File(file.path().to_owned())).unwrap();
    let Apart { store, url } = Apart::new(name).await;
    (file, Apart { store: store.with_vault(vault), url })
}

fn write_keys(file: &tempfile::NamedTempFile, keys: &[char]) {
    let lines: Vec<String> = keys.iter().map(|digit| digit.to_string().repeat(64)).collect();
    std::fs::write(file.path(), lines.join("\n")).unwrap();
}

fn owned(names: &[&str]) -> Vec<String> {
    names.iter().map(|name| (*name).to_owned()).collect()
}

fn why<T: std::fmt::Debug>(refused: Result<T, Error>) -> String {
    refused.expect_err("it is refused").to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_is_never_kept_as_it_is() {
    let (_file, apart) = sealing("secrets_kept", &['1']).await;
    let store = &apart.store;
    assert!(store.put_secret("kept-sealed", "the tide is high", (&[], &[]), None, "asta", false).await.unwrap());
    let kept = apart.told("select encode(sealed, 'escape') from secrets").await.remove(0);
    assert!(kept.starts_with("kesmo-sealed-1:") && !kept.contains("tide"), "{kept}");
    assert_eq!(store.secret_for("kept-sealed", "any", None).await.unwrap().as_deref(), Some("the tide is high"));
    // A store without keys keeps none in the open, and opens none.
    let keyless = kesmo_store::Store::open(&apart.url).await.unwrap();
    let refused = keyless.put_secret("in-the-open", "x", (&[], &[]), None, "asta", false).await;
    assert!(why(refused).contains("there is no key to seal with"));
    assert!(why(keyless.secret_for("kept-sealed", "any", None).await).contains("there is no key here"));
    // One that stands in another's place does not open there.
    assert!(store.put_secret("kept-other", "low", (&[], &[]), None, "asta", false).await.unwrap());
    apart
        .sql("update secrets set sealed = (select sealed from secrets where name = 'kept-other') where name = 'kept-sealed'")
        .await;
    store.secret_for("kept-sealed", "any", None).await.unwrap_err();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_is_given_to_the_suites_and_briefs_that_it_is_for() {
    let (_file, Apart { store, .. }) = sealing("secrets_placed", &['1']).await;
    let put = async |value: &str, suites: &[&str], briefs: &[&str], replace| {
        let (suites, briefs) = (owned(suites), owned(briefs));
        store.put_secret("placed", value, (&suites, &briefs), None, "asta", replace).await.unwrap()
    };
    assert!(put("one", &["fare"], &["nightly"], false).await);
    assert!(!put("two", &[], &[], false).await, "there is one of that name");
    let given = async |suite: &str, brief: Option<&str>| store.secret_for("placed", suite, brief).await;
    assert_eq!(given("fare", None).await.unwrap().as_deref(), Some("one"));
    assert_eq!(given("berth", Some("nightly")).await.unwrap().as_deref(), Some("one"));
    for (suite, brief) in [("berth", None), ("berth", Some("push")), ("fares", None), ("", None)] {
        let said = why(given(suite, brief).await);
        assert!(said.contains(&format!("is not for runs of {suite} ")), "{said}");
    }
    assert!(put("two", &[], &[], true).await);
    assert_eq!(given("berth", None).await.unwrap().as_deref(), Some("two"), "with neither it is for all");
    let row = store.secrets().await.unwrap().into_iter().find(|row| row.name == "placed").unwrap();
    assert!(row.used_at.is_some() && row.changed_at > row.made_at && row.suites.is_empty());
    assert!(store.remove_secret("placed").await.unwrap());
    assert!(!store.remove_secret("placed").await.unwrap());
    assert_eq!(given("fare", None).await.unwrap(), None);
}

#[tokio::test(flavor = "multi_thread")]
async fn git_is_given_what_is_kept_for_the_longest_beginning_of_an_address() {
    let (_file, Apart { store, .. }) = sealing("secrets_of_git", &['1']).await;
    for (name, value, place) in [
        ("git-host", "of the host", "https://git.quay.example"),
        ("git-crew", "of the crew", "https://git.quay.example/crew/"),
        ("git-one", "of one", "https://git.quay.example/crew/fare"),
    ] {
        assert!(store.put_secret(name, value, (&[], &[]), Some(place), "asta", false).await.unwrap());
    }
    for (address, wanted) in [
        ("https://git.quay.example/other/berth", Some("of the host")),
        ("https://git.quay.example", Some("of the host")),
        ("https://git.quay.example/crew/berth", Some("of the crew")),
        ("https://git.quay.example/crew/fare", Some("of one")),
        ("https://git.quay.example/crew/fare/part", Some("of one")),
        // What only begins with the same letters is another place.
        ("https://git.quay.example/crew/fares", Some("of the crew")),
        ("https://git.quay.example.evil.example/crew", None),
        ("http://git.quay.example/crew", None),
        ("", None),
    ] {
        assert_eq!(store.secret_for_git(address).await.unwrap().as_deref(), wanted, "{address}");
    }
    // No run is given it.
    assert!(why(store.secret_for("git-one", "fare", None).await).contains("is for git at https://git.quay.example"));
}

#[tokio::test(flavor = "multi_thread")]
async fn everything_that_is_sealed_is_sealed_again_under_a_new_key_and_opens_meanwhile() {
    let (file, apart) = sealing("secrets_turned", &['a']).await;
    let store = &apart.store;
    store.put_secret("turned", "tide", (&[], &[]), None, "asta", false).await.unwrap();
    let hook = NewWebhook {
        name: "turned",
        brief: "turned",
        secret: b"hook",
        takes: &[],
        whens: &[],
        per_minute: 1,
        made_by: "asta",
    };
    let brief = serde_json::from_str(r#"{"suite":"turned"}"#).unwrap();
    store.put_brief("turned", &brief, "asta", false).await.unwrap();
    store.add_webhook(hook).await.unwrap().unwrap();
    let rule: Notice = serde_json::from_str(r#"{"when":["failed"],"to":{"mail":["crew@quay.example"]}}"#).unwrap();
    let notice = NewNotice { name: "turned", notice: &rule, secret: Some(b"bell"), by: "asta", replace: false };
    store.put_notice(notice).await.unwrap().unwrap();
    let pool: Pool = serde_json::from_str(r#"{"how":{"kind":"fixed"}}"#).unwrap();
    let pool =
        NewPool { name: "turned", pool: &pool, secret: Some("crane"), mark: "turned", by: "asta", replace: false };
    store.put_pool(pool).await.unwrap().unwrap();
    let opened = async || {
        (
            store.secret_for("turned", "fare", None).await.unwrap().unwrap(),
            store.webhook("turned").await.unwrap().unwrap().secret,
            store.notice("turned").await.unwrap().unwrap().secret.unwrap(),
            store.pool("turned").await.unwrap().unwrap().secret.unwrap(),
        )
    };
    let wanted = ("tide".to_owned(), b"hook".to_vec(), b"bell".to_vec(), "crane".to_owned());
    assert_eq!(opened().await, wanted);
    // The new key stands first: it seals, and what the old one sealed opens.
    write_keys(&file, &['b', 'a']);
    assert!(store.read_keys_again().unwrap(), "another key seals");
    assert!(!store.read_keys_again().unwrap());
    assert_eq!(opened().await, wanted);
    let kept = async || {
        apart
            .told(
                "select encode(sealed, 'hex') from secrets union all select encode(secret, 'hex') from webhooks \
                 union all select encode(secret, 'hex') from notices union all select secret from pools",
            )
            .await
    };
    let before = kept().await;
    assert_eq!(store.seal_again().await.unwrap(), 4);
    let after = kept().await;
    assert!(before.len() == 4 && before.iter().all(|one| !after.contains(one)), "all are other than before");
    assert_eq!(store.seal_again().await.unwrap(), 0, "all is sealed with the key that seals now");
    // Then the old one is taken away.
    write_keys(&file, &['b']);
    store.read_keys_again().unwrap();
    assert_eq!(opened().await, wanted);
    // Without the new one nothing opens, and it says whose key is missing.
    write_keys(&file, &['a']);
    store.read_keys_again().unwrap();
    assert!(why(store.secret_for("turned", "fare", None).await).contains("a key that this service does not have"));
    assert!(why(store.webhook("turned").await.map(drop)).contains("webhook turned"));
    // A list of all shows the others all the same.
    assert!(store.pools().await.unwrap().iter().any(|pool| pool.name == "turned"));
    assert!(store.notices().await.unwrap().iter().any(|notice| notice.name == "turned"));
}

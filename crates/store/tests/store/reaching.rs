//! How PostgreSQL is reached: with TLS or without, and by whose certificates.

use std::{
    os::unix::fs::{MetadataExt, PermissionsExt, chown},
    path::PathBuf,
};

use diesel_async::RunQueryDsl;
use kesmo_store::{Error, Store, connecting::Address};
use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, IsCa, KeyPair};

use crate::cluster::{CLUSTER, sql, told};

type Authority = CertifiedIssuer<'static, KeyPair>;

fn authority(name: &str) -> Authority {
    let mut params = CertificateParams::default();
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params.distinguished_name.push(rcgen::DnType::CommonName, name);
    Authority::self_signed(params, KeyPair::generate().unwrap()).unwrap()
}

/// Files that PostgreSQL reads, and takes a key from only if it is its own.
struct Files(PathBuf);

impl Files {
    fn new() -> Self {
        let dir = CLUSTER.folder.path().join("certificates");
        std::fs::create_dir(&dir).unwrap();
        std::fs::set_permissions(&dir, std::fs::Permissions::from_mode(0o755)).unwrap();
        Self(dir)
    }

    fn write(&self, name: &str, pem: &str) -> String {
        let path = self.0.join(name);
        std::fs::write(&path, pem).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).unwrap();
        let owner = std::fs::metadata(CLUSTER.folder.path().join("postgres")).unwrap();
        chown(&path, Some(owner.uid()), Some(owner.gid())).unwrap();
        path.display().to_string()
    }

    /// A certificate of an authority for a host, and its key.
    fn certificate(&self, name: &str, host: &str, by: &Authority) -> (String, String) {
        let key = KeyPair::generate().unwrap();
        let made = CertificateParams::new(vec![host.to_owned()]).unwrap().signed_by(&key, by).unwrap();
        (self.write(&format!("{name}.pem"), &made.pem()), self.write(&format!("{name}.key"), &key.serialize_pem()))
    }
}

#[derive(diesel::QueryableByName, Debug, PartialEq, Eq)]
struct Spoken {
    #[diesel(sql_type = diesel::sql_types::Text)]
    version: String,
    #[diesel(sql_type = diesel::sql_types::Bool)]
    shown: bool,
}

/// The version of TLS that a connection speaks, empty if none, and whether it has shown a certificate.
async fn spoken(url: &str) -> Result<(String, bool), String> {
    let mut c = Address::parse(url)?.connect().await.map_err(|e| format!("{e:?}"))?;
    let spoken: Spoken = diesel::sql_query(
        "select coalesce(version, '') as version, client_dn is not null as shown from pg_stat_ssl where pid = pg_backend_pid()",
    )
    .get_result(&mut c)
    .await
    .map_err(|e| e.to_string())?;
    Ok((spoken.version, spoken.shown))
}

/// Has PostgreSQL speak TLS with a certificate, and waits until it does.
async fn speaks(url: &str, certificate: &str, key: &str, clients: &str) {
    for (name, value) in
        [("ssl_cert_file", certificate), ("ssl_key_file", key), ("ssl_ca_file", clients), ("ssl", "on")]
    {
        sql(url, &format!("alter system set {name} = '{value}'")).await;
    }
    sql(url, "select pg_reload_conf()").await;
    // A connection of its own each time: one that is open keeps what it began with.
    let now = || told(url, "select current_setting('ssl') || ' ' || current_setting('ssl_cert_file')");
    while now().await != [format!("on {certificate}")] {
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn postgresql_is_reached_by_tls_as_its_address_says() {
    let plain = CLUSTER.postgres.url();
    let bare = plain.split_once('?').map_or(plain.as_str(), |(url, _)| url).to_owned();
    let with = |tls: &str| format!("{bare}?{tls}");

    // It speaks none yet.
    assert_eq!(spoken(&plain).await, Ok((String::new(), false)));
    assert_eq!(spoken(&with("sslmode=prefer")).await, Ok((String::new(), false)));
    let why = Store::answers_at(&with("sslmode=require")).await.unwrap_err();
    assert!(matches!(&why, Error::Address(why) if why.contains("does not support TLS")), "{why}");

    let (files, ours, others) = (Files::new(), authority("Authority of Lantern Quay"), authority("Another"));
    let (certificate, key) = files.certificate("server", "127.0.0.1", &ours);
    let trusted = files.write("authority.pem", &ours.pem());
    let wrong = files.write("another.pem", &others.pem());
    speaks(&plain, &certificate, &key, &trusted).await;

    let (full, by_name) =
        (with(&format!("sslmode=verify-full&sslrootcert={trusted}")), bare.replace("127.0.0.1", "localhost"));
    let tls = Ok(("TLSv1.3".to_owned(), false));
    assert_eq!(spoken(&plain).await, Ok((String::new(), false)), "that was said");
    assert_eq!(spoken(&bare).await, tls, "it is preferred");
    assert_eq!(spoken(&with("sslmode=require")).await, tls);
    assert_eq!(spoken(&full).await, tls);
    assert_eq!(
        spoken(&format!("{full}&channel_binding=require")).await,
        tls,
        "the password is bound to the certificate"
    );
    let issuer = format!("{by_name}?sslmode=verify-ca&sslrootcert={trusted}");
    assert_eq!(spoken(&issuer).await, tls, "for whom it is, is not asked");
    assert!(Store::open(&full).await.unwrap().answers().await, "the store's pool connects so, too");

    for (refused, says) in [
        (with(&format!("sslmode=verify-full&sslrootcert={wrong}")), "UnknownIssuer"),
        (with(&format!("sslmode=require&sslrootcert={wrong}")), "UnknownIssuer"),
        (with("sslmode=verify-full&sslrootcert=system"), "UnknownIssuer"),
        (format!("{by_name}?sslmode=verify-full&sslrootcert={trusted}"), "not valid for name"),
        (with("sslmode=verify-full&sslrootcert=/quay/none.pem"), "/quay/none.pem"),
    ] {
        let why = Store::answers_at(&refused).await.unwrap_err();
        assert!(matches!(&why, Error::Address(why) if why.contains(says)), "{refused}: {why}");
    }

    // PostgreSQL's own tools understand the same address.
    let copy = tempfile::tempdir().unwrap();
    kesmo_database::dump(&full, &copy.path().join("a")).unwrap();
    let other = with(&format!("sslmode=verify-full&sslrootcert={wrong}"));
    assert!(kesmo_database::dump(&other, &copy.path().join("b")).is_err());

    // A certificate of the service's own is shown where PostgreSQL asks for one.
    let (own, own_key) = files.certificate("service", "kesmo", &ours);
    assert_eq!(spoken(&format!("{full}&sslcert={own}&sslkey={own_key}")).await, Ok(("TLSv1.3".to_owned(), true)));
    let why = spoken(&format!("{full}&sslcert={own}&sslkey={key}")).await.unwrap_err();
    assert!(why.contains("does not fit"), "{why}");

    // Who made a certificate by oneself names it itself.
    let key = KeyPair::generate().unwrap();
    let mut params = CertificateParams::new(vec!["127.0.0.1".to_owned()]).unwrap();
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let made = params.self_signed(&key).unwrap();
    let (made, key) = (files.write("alone.pem", &made.pem()), files.write("alone.key", &key.serialize_pem()));
    speaks(&plain, &made, &key, &trusted).await;
    assert_eq!(spoken(&with(&format!("sslmode=verify-full&sslrootcert={made}"))).await, tls);
    let named = format!("{by_name}?sslmode=verify-full&sslrootcert={made}");
    assert!(spoken(&named).await.unwrap_err().contains("not valid for name"));
    assert!(spoken(&full).await.is_err(), "it is not of that authority");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_is_away_is_told_apart_from_who_refuses() {
    let url = CLUSTER.postgres.url();
    let nobody = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let port = url.rsplit(':').next().and_then(|rest| rest.split('/').next()).unwrap();
    for (url, away) in [
        (url.replace(port, &nobody.to_string()), true),
        (url.replace("127.0.0.1", "nowhere.quay.example"), true),
        (url.replace("kesmo:", "kesmo:x"), false),
        (url.replace("/postgres?", "/none-of-this-name?"), false),
    ] {
        let why = Store::answers_at(&url).await.unwrap_err();
        assert_eq!(matches!(why, Error::Away(_)), away, "{why}");
        assert_eq!(matches!(why, Error::Refused(_)), !away, "{why}");
    }
    assert!(matches!(Store::answers_at("db.quay.example").await, Err(Error::Address(_))));
}

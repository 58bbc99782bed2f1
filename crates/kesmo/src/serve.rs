//! `kesmo serve`.

use std::io::{IsTerminal, Write};

use kesmo_cli::{Failure, GroupRole, Serve, log_to_stderr};
use kesmo_service::{Given, scheduler::clock::Clock};

/// Tells what the service would use, or what is wrong.
async fn check(config: &kesmo_service::Config) -> Result<(), Failure> {
    let problems = kesmo_service::check(config).await;
    if !problems.is_empty() {
        return Err(Failure::call(problems.join("\nkesmo: ")));
    }
    let scheme = if config.tls.is_some() { "https" } else { "http" };
    println!("It would listen on {scheme}://{}, and keep everything in {}.", config.listen, config.data.display());
    let database = if config.database.is_some() {
        "the PostgreSQL that was named, which answers"
    } else {
        "a PostgreSQL of its own"
    };
    println!("Its database is {database}.");
    if let Some((at, _)) = &config.objects {
        println!("Its files are kept in {} at {}, which answers.", at.bucket, at.endpoint);
    }
    if let Some(provider) = &config.provider {
        println!("People sign in at {}, too.", provider.issuer);
    }
    if let Some(mail) = &config.mail {
        println!("Notices are mailed from {}.", mail.from);
    }
    Ok(())
}

fn given(GroupRole { group, role, suites }: GroupRole) -> Given {
    Given { group, role, suites }
}

pub async fn run(options: &Serve) -> Result<(), Failure> {
    log_to_stderr(options.log_json);
    if let Some(first) = options.drain {
        let data = options.data.clone();
        let drained = tokio::task::spawn_blocking(move || kesmo_service::drain(&data, first)).await;
        let drained = drained.map_err(|e| Failure::trouble(e.to_string()))?;
        if !drained.map_err(|e| Failure::call(e.to_string()))? {
            return Err(Failure::call(format!("no service runs with the folder {}", options.data.display())));
        }
        println!("The service has ended.");
        return Ok(());
    }
    let config = kesmo_service::Config {
        listen: options.listen,
        tls: options.tls_cert.clone().zip(options.tls_key.clone()),
        behind_proxy: options.behind_proxy.clone(),
        data: options.data.clone(),
        database: options.database.clone(),
        patience: options.patience,
        blobs: options.blobs.clone(),
        objects: options.objects.clone().zip(options.objects_key_file.clone()),
        peer_ca: options.peer_ca.clone(),
        reached_at: options.reached_at.clone(),
        git_folders: options.git_folder.clone(),
        secret_keys: match (&options.secret_key_file, &options.secret_key_command) {
            (Some(file), _) => Some(kesmo_service::KeySource::File(file.clone())),
            (None, Some(command)) => Some(kesmo_service::KeySource::Command(command.clone())),
            (None, None) => None,
        },
        mail: options.mail_server.clone().map(|server| kesmo_service::MailConfig {
            server,
            from: options.mail_from.clone().unwrap_or_default(),
            password: options.mail_password_file.clone(),
        }),
        provider: options.oidc_issuer.clone().map(|issuer| kesmo_service::ProviderConfig {
            issuer,
            client: options.oidc_client.clone().unwrap_or_default(),
            secret: options.oidc_secret_file.clone(),
            name: options.oidc_name.clone(),
            scopes: options.oidc_scopes.clone(),
            groups: options.oidc_groups.clone(),
            roles: options.oidc_role.iter().cloned().map(given).collect(),
            ca: options.oidc_ca.clone(),
        }),
        traces: options.traces.clone(),
        ca: options.notice_ca.clone(),
        clock: options.clock.clone().map_or(Clock::System, Clock::File),
    };
    if options.check {
        return check(&config).await;
    }
    let started = |started: kesmo_service::Started| {
        let mut said = format!("Kesmo is listening on {}\n", started.url);
        let mut out = std::io::stdout().lock();
        if let Some(token) = started.admin_token {
            let (file, url) = (started.admin_token_file.display(), started.url);
            // What does not go to a terminal is kept by whatever reads it, a journal for one.
            if out.is_terminal() {
                said += &format!("The first admin's token, shown this once: {token}\n");
                said += &format!("It is kept in {file}, which only you can read.\n");
                said += &format!("Sign in to the console: {url}/#token={token}\n");
            } else {
                said += &format!("The first admin's token is in {file}, which only you can read.\n");
            }
        }
        if out.write_all(said.as_bytes()).and_then(|()| out.flush()).is_err() {
            tracing::warn!("nobody reads what the service says on standard output");
        }
    };
    kesmo_service::serve(config, started).await.map_err(|e| match e {
        kesmo_service::Error::Address(..) | kesmo_service::Error::FolderTaken(_) | kesmo_service::Error::Option(_) => {
            Failure::call(e.to_string())
        }
        other => Failure::trouble(other.to_string()),
    })
}

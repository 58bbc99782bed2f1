//! `kesmo notice`.

use std::path::Path;

use kesmo_core::{
    notice::{Notice, To},
    request::Asked,
};
use kesmo_wire::api::{NewNotice, NoticeMessage, NoticeOf, Pause};

use super::{files::read, print_json};
use crate::{
    arguments::{AddNotice, NoticeCommand, OneMessage, pairs},
    context::Context,
    failure::Failure,
    view::{self, Paint, paint},
};

pub async fn run(command: &NoticeCommand, context: &Context) -> Result<(), Failure> {
    let of = |name: &str, more: &str| format!("/api/notices/{name}{more}");
    let nothing = serde_json::json!({});
    match command {
        NoticeCommand::Add(options) => add(options, context).await,
        NoticeCommand::List => list(context).await,
        NoticeCommand::Show(named) => {
            let found: NoticeOf = context.client.get(&of(&named.name, ""), &[]).await?;
            if context.json {
                return print_json(&found);
            }
            show(&found);
            Ok(())
        }
        NoticeCommand::Try(named) => {
            let sent: NoticeMessage = context.client.post(&of(&named.name, "/try"), &nothing).await?;
            if context.json {
                return print_json(&sent);
            }
            if sent.state != "sent" {
                return Err(Failure::trouble(format!("the sample did not get through: {}", sent.said)));
            }
            println!("The sample is sent: {}", view::output(&sent.said));
            Ok(())
        }
        NoticeCommand::Message(one) => {
            let found: NoticeMessage = context.client.get(&message_of(one, ""), &[]).await?;
            if context.json {
                return print_json(&found);
            }
            println!(
                "{}\n\n{}",
                view::bold(&view::output(&found.subject)),
                view::output(found.text.as_deref().unwrap_or_default())
            );
            Ok(())
        }
        NoticeCommand::Again(one) => {
            let found: NoticeMessage = context.client.post(&message_of(one, "/again"), &nothing).await?;
            if context.json {
                return print_json(&found);
            }
            println!("Message {} is sent once more.", found.number);
            Ok(())
        }
        NoticeCommand::Pause(named) => pause(&named.name, true, context).await,
        NoticeCommand::Resume(named) => pause(&named.name, false, context).await,
        NoticeCommand::NewSecret(named) => {
            let made: NoticeOf = context.client.post(&of(&named.name, "/secret"), &nothing).await?;
            told(&made, context)
        }
        NoticeCommand::Remove(named) => {
            context.client.delete(&of(&named.name, "")).await?;
            println!("The notice {} is removed.", named.name);
            Ok(())
        }
    }
}

fn message_of(one: &OneMessage, more: &str) -> String {
    format!("/api/notices/{}/messages/{}{more}", one.name, one.number)
}

/// A request that a file describes.
fn request(option: &str, file: &Path) -> Result<Asked, Failure> {
    let text = read(option, file)?;
    Ok(Asked::parse(&format!("{option} {}", file.display()), &text)?)
}

/// What the options say.
fn described(options: &AddNotice) -> Result<Notice, Failure> {
    let to = match (&options.to.http, &options.to.chat, &options.to.commit_status) {
        (Some(address), ..) => To::Http(address.clone()),
        (_, Some(file), _) => To::Chat(request("--chat", file)?),
        (.., Some(file)) => To::CommitStatus(request("--commit-status", file)?),
        _ => To::Mail(options.to.mail.clone()),
    };
    let read = |option: &str, e: &dyn std::fmt::Display| Failure::call(format!("{option}: {e}"));
    let notice = Notice {
        when: options
            .when
            .iter()
            .map(|when| when.parse())
            .collect::<Result<_, _>>()
            .map_err(|e: kesmo_core::Error| read("--when", &e))?,
        suites: options.suite.clone(),
        briefs: options.brief.clone(),
        branches: options.branch.clone(),
        labels: pairs("--label", &options.label)?,
        to,
        quiet: options
            .quiet
            .iter()
            .map(|q| q.parse())
            .collect::<Result<_, _>>()
            .map_err(|e: kesmo_core::Error| read("--quiet", &e))?,
        digest: options
            .digest
            .as_deref()
            .map(str::parse)
            .transpose()
            .map_err(|e: kesmo_core::Error| read("--digest", &e))?,
        zone: options.zone.clone(),
        every_time: options.every_time,
    };
    notice.check()?;
    Ok(notice)
}

async fn add(options: &AddNotice, context: &Context) -> Result<(), Failure> {
    let notice = described(options)?;
    let secret = options.secret_file.as_deref().map(|file| read("--secret-file", file)).transpose()?;
    let new = NewNotice { notice, secret: secret.map(|s| s.trim().to_owned()), replace: options.replace };
    let made: NoticeOf = context.client.put(&format!("/api/notices/{}", options.name), &new).await?;
    told(&made, context)
}

fn told(made: &NoticeOf, context: &Context) -> Result<(), Failure> {
    if context.json {
        return print_json(made);
    }
    let line =
        format!("The notice {} is there: {} of {}, to {}", made.name, made.when.join(", "), made.of, made.address);
    match &made.secret {
        // The secret alone on standard output, so that a script can take it.
        Some(secret) => {
            eprintln!("{line}");
            eprintln!("Messages are signed as Standard Webhooks says, with this secret, shown this once:");
            println!("{secret}");
        }
        None => println!("{line}"),
    }
    eprintln!("See whether it gets through: kesmo notice try {}", made.name);
    Ok(())
}

async fn list(context: &Context) -> Result<(), Failure> {
    let all: Vec<NoticeOf> = context.client.get("/api/notices", &[]).await?;
    if context.json {
        return print_json(&all);
    }
    if all.is_empty() {
        println!(
            "Nobody is told anything yet. Be told: kesmo notice add NAME --when newly-failing --when mended --mail crew@quay.example"
        );
        return Ok(());
    }
    let rows = all.iter().map(|n| {
        let name = if n.paused { format!("{} {}", n.name, paint(Paint::Parked, "paused")) } else { n.name.clone() };
        let mut stands = vec![format!("{} sent", n.sent_count)];
        stands.extend((n.trying > 0).then(|| paint(Paint::Void, &format!("{} being tried", n.trying))));
        stands.extend((n.given_up > 0).then(|| paint(Paint::Failed, &format!("{} given up", n.given_up))));
        stands.extend((n.gathering > 0).then(|| format!("{} waiting", n.gathering)));
        vec![name, n.when.join(", "), n.of.clone(), format!("{} {}", n.to, view::output(&n.address)), stands.join(", ")]
    });
    print!("{}", view::table(&["notice", "when", "of", "to", "messages"], rows.collect()));
    for notice in &all {
        if let Some(trouble) = &notice.trouble {
            println!("{} {}: {trouble}", paint(Paint::Failed, "◆"), notice.name);
        }
    }
    Ok(())
}

fn state(message: &NoticeMessage) -> String {
    let (glyph, colour) = match message.state.as_str() {
        "sent" => ("●", Paint::Passed),
        "given-up" => ("◆", Paint::Failed),
        _ => ("≈", Paint::Running),
    };
    let state = message.state.replace('-', " ");
    paint(colour, &format!("{glyph} {state}{}", if message.sample { " (sample)" } else { "" }))
}

fn show(found: &NoticeOf) {
    println!("{}  {}, of {}", view::bold(&found.name), found.when.join(", "), found.of);
    println!("to       {} {}", found.to, view::output(&found.address));
    if let Some(sent) = &found.sent {
        println!("sent     {sent}");
    }
    println!("made     {} by {}", view::moment(found.made_at), found.made_by);
    if found.paused {
        println!("paused; go on with: kesmo notice resume {}", found.name);
    }
    if let Some(trouble) = &found.trouble {
        println!("{} {trouble}", paint(Paint::Failed, "◆"));
    }
    if found.messages.is_empty() {
        println!("\nNothing was sent yet. Send a sample: kesmo notice try {}", found.name);
    } else {
        println!();
        let rows = found.messages.iter().map(|m| {
            let said = match m.next_at {
                Some(next) if m.tries > 0 => format!(
                    "{} ({}; again {})",
                    m.said,
                    if m.tries == 1 { "tried once".to_owned() } else { format!("tried {} times", m.tries) },
                    view::moment(next)
                ),
                _ => m.said.clone(),
            };
            vec![m.number.to_string(), view::moment(m.made_at), state(m), view::output(&m.subject), view::output(&said)]
        });
        print!("{}", view::table(&[">number", "made", "state", "message", "its receiver said"], rows.collect()));
    }
    if !found.kept.is_empty() {
        println!("\nNot sent");
        let rows = found.kept.iter().map(|event| {
            let why = match (event.due_at, &event.why) {
                (Some(due), _) => format!("waits until {}", view::moment(due)),
                (None, Some(why)) => view::output(why),
                (None, None) => String::new(),
            };
            vec![view::moment(event.at), view::output(&event.title), why]
        });
        print!("{}", view::table(&["at", "what happened", "why"], rows.collect()));
    }
}

async fn pause(name: &str, paused: bool, context: &Context) -> Result<(), Failure> {
    let made: NoticeOf = context.client.post(&format!("/api/notices/{name}/pause"), &Pause { paused }).await?;
    if context.json {
        return print_json(&made);
    }
    match paused {
        true => println!("The notice {name} is paused: what happens is not told until `kesmo notice resume {name}`."),
        false => println!("The notice {name} tells again, of what happens from now on."),
    }
    Ok(())
}

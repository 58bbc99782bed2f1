//! `kesmo webhook`.

use std::{io::Read, path::Path};

use kesmo_core::{
    time::Bytes,
    webhook::{Did, read_secret, sign},
};
use kesmo_wire::api::{self, Delivery, NewWebhook, Pause, Tried, WebhookOf};

use super::print_json;
use crate::{
    arguments::{AddWebhook, SendWebhook, TryWebhook, Webhook},
    context::Context,
    failure::Failure,
    view::{self, Paint, paint},
};

pub async fn run(command: &Webhook, context: &Context) -> Result<(), Failure> {
    match command {
        Webhook::Add(options) => add(options, context).await,
        Webhook::List => list(context).await,
        Webhook::Show(named) => {
            let found: WebhookOf = context.client.get(&format!("/api/webhooks/{}", named.name), &[]).await?;
            if context.json {
                return print_json(&found);
            }
            show(&found, context);
            Ok(())
        }
        Webhook::Try(options) => try_body(options, context).await,
        Webhook::Redeliver(options) => {
            let path = format!("/api/webhooks/{}/deliveries/{}/redeliver", options.name, options.delivery);
            let made: Delivery = context.client.post(&path, &serde_json::json!({})).await?;
            told(&made, context)
        }
        Webhook::Body(options) => {
            let path = format!("/api/webhooks/{}/deliveries/{}", options.name, options.delivery);
            let found: Delivery = context.client.get(&path, &[]).await?;
            if context.json {
                return print_json(&found);
            }
            println!("{}", view::output(&found.body.unwrap_or_default()));
            Ok(())
        }
        Webhook::Send(options) => send(options, context).await,
        Webhook::Pause(named) => pause(&named.name, true, context).await,
        Webhook::Resume(named) => pause(&named.name, false, context).await,
        Webhook::NewSecret(named) => {
            let path = format!("/api/webhooks/{}/secret", named.name);
            let made: WebhookOf = context.client.post(&path, &serde_json::json!({})).await?;
            print_secret(&made, context)
        }
        Webhook::Remove(named) => {
            context.client.delete(&format!("/api/webhooks/{}", named.name)).await?;
            println!("Webhook {} is removed; its runs can still be read.", named.name);
            Ok(())
        }
    }
}

async fn add(options: &AddWebhook, context: &Context) -> Result<(), Failure> {
    let new = NewWebhook {
        name: options.name.clone(),
        brief: options.brief.clone(),
        takes: options.take.clone(),
        whens: options.when.clone(),
        per_minute: Some(options.per_minute),
    };
    let made: WebhookOf = context.client.post("/api/webhooks", &new).await?;
    print_secret(&made, context)
}

/// The secret alone on standard output, so that a script can take it.
fn print_secret(made: &WebhookOf, context: &Context) -> Result<(), Failure> {
    if context.json {
        return print_json(made);
    }
    eprintln!("Webhook {}: post JSON to {}{}", made.name, context.client.url(), made.path);
    eprintln!("signed as Standard Webhooks says, with this secret, shown this once:");
    println!("{}", made.secret.as_deref().unwrap_or_default());
    Ok(())
}

async fn list(context: &Context) -> Result<(), Failure> {
    let all: Vec<WebhookOf> = context.client.get("/api/webhooks", &[]).await?;
    if context.json {
        return print_json(&all);
    }
    if all.is_empty() {
        println!("There is no webhook yet. Make one: kesmo webhook add NAME --brief BRIEF --take commit=/commit");
        return Ok(());
    }
    let rows = all.iter().map(|c| {
        let last = c.deliveries.first();
        let last = last.map_or_else(|| "nothing came yet".into(), |d| format!("{} {}", did(d), view::moment(d.at)));
        let name = if c.paused { format!("{} {}", c.name, paint(Paint::Parked, "paused")) } else { c.name.clone() };
        vec![name, c.brief.clone(), c.path.clone(), last]
    });
    print!("{}", view::table(&["webhook", "starts", "address", "last delivery"], rows.collect()));
    Ok(())
}

fn did(delivery: &Delivery) -> String {
    let (glyph, colour) = match delivery.did {
        Did::Started => ("≈", Paint::Running),
        Did::Ignored => ("▽", Paint::Skipped),
        Did::Refused => ("⊘", Paint::Void),
    };
    paint(colour, &format!("{glyph} {}", delivery.did.word()))
}

fn show(found: &WebhookOf, context: &Context) {
    println!("{}  starts the brief {}", view::bold(&found.name), found.brief);
    println!("address  {}{}", context.client.url(), found.path);
    for when in &found.whens {
        println!("when     {when}");
    }
    for take in &found.takes {
        println!("take     {take}");
    }
    println!("at most  {} deliveries a minute", found.per_minute);
    println!("made     {} by {}", view::moment(found.made_at), found.made_by);
    if found.paused {
        println!("paused; go on with: kesmo webhook resume {}", found.name);
    }
    if found.deliveries.is_empty() {
        println!("\nNothing came yet. Try a body: kesmo webhook try {} --body FILE", found.name);
        return;
    }
    println!();
    let rows = found.deliveries.iter().map(|d| {
        let why = d.redelivery_of.map_or_else(|| d.why.clone(), |of| format!("{} (redelivery of {of})", d.why));
        let size = Bytes(d.bytes.into()).to_string();
        vec![d.id.to_string(), view::moment(d.at), did(d), d.run.clone().unwrap_or_default(), size, why]
    });
    print!("{}", view::table(&[">number", "received", "result", "run", ">size", "why"], rows.collect()));
}

/// A body from a file, or from standard input.
fn read_body(file: &Path) -> Result<Vec<u8>, Failure> {
    let failed = |e: std::io::Error| Failure::call(format!("--body {}: {e}", file.display()));
    if file == Path::new("-") {
        let mut content = Vec::new();
        std::io::stdin().lock().read_to_end(&mut content).map_err(failed)?;
        return Ok(content);
    }
    std::fs::read(file).map_err(failed)
}

async fn try_body(options: &TryWebhook, context: &Context) -> Result<(), Failure> {
    let content = read_body(&options.body)?;
    let text = String::from_utf8(content).map_err(|_| Failure::call("the body is no UTF-8"))?;
    let body = api::TryWebhook { body: text, content_type: options.content_type.clone() };
    let tried: Tried = context.client.post(&format!("/api/webhooks/{}/try", options.name), &body).await?;
    if context.json {
        return print_json(&tried);
    }
    match tried.did {
        Did::Started => {
            println!("It would start a run with these settings:\n{}", tried.toml.unwrap_or_default().trim_end())
        }
        Did::Ignored => println!("It would be ignored: {}", tried.why),
        Did::Refused => return Err(Failure::call(format!("it would be refused: {}", tried.why))),
    }
    Ok(())
}

fn told(made: &Delivery, context: &Context) -> Result<(), Failure> {
    if context.json {
        return print_json(made);
    }
    match (made.did, &made.run) {
        (Did::Started, Some(run)) => println!("{run}"),
        (Did::Refused, _) => return Err(Failure::call(format!("refused: {}", made.why))),
        _ => println!("{}: {}", made.did.word(), made.why),
    }
    Ok(())
}

async fn send(options: &SendWebhook, context: &Context) -> Result<(), Failure> {
    let content = read_body(&options.body)?;
    let secret = read_secret(options.secret.trim())?;
    let now = chrono::Utc::now();
    let made = || format!("msg-{}-{}", now.timestamp_micros(), std::process::id());
    let id = options.id.clone().unwrap_or_else(made);
    let signature = sign(&secret, &id, now.timestamp(), &content);
    let headers = [
        ("webhook-id", id),
        ("webhook-timestamp", now.timestamp().to_string()),
        ("webhook-signature", signature),
        ("content-type", options.content_type.clone()),
    ];
    let made: Delivery = context.client.post_signed(&format!("/webhook/{}", options.name), &headers, content).await?;
    told(&made, context)
}

async fn pause(name: &str, paused: bool, context: &Context) -> Result<(), Failure> {
    let made: WebhookOf = context.client.post(&format!("/api/webhooks/{name}/pause"), &Pause { paused }).await?;
    if context.json {
        return print_json(&made);
    }
    match paused {
        true => println!("Webhook {name} is paused: what comes is refused until `kesmo webhook resume {name}`."),
        false => println!("Webhook {name} takes deliveries again."),
    }
    Ok(())
}

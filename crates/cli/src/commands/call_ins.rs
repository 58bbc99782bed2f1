//! `kesmo call-in`.

use std::{io::Read, path::Path};

use kesmo_core::{
    call_in::{Did, read_secret, sign},
    time::Bytes,
};
use kesmo_wire::api::{self, CallInOf, Delivery, NewCallIn, Pause, Tried};

use super::print_json;
use crate::{
    Context, Failure,
    arguments::{AddCallIn, CallIn, SendCallIn, TryCallIn},
    view::{self, Paint, paint},
};

pub async fn run(command: &CallIn, context: &Context) -> Result<(), Failure> {
    match command {
        CallIn::Add(options) => add(options, context).await,
        CallIn::List => list(context).await,
        CallIn::Show(named) => {
            let found: CallInOf = context.client.get(&format!("/api/call-ins/{}", named.name), &[]).await?;
            if context.json {
                return print_json(&found);
            }
            show(&found, context);
            Ok(())
        }
        CallIn::Try(options) => try_body(options, context).await,
        CallIn::Again(options) => {
            let path = format!("/api/call-ins/{}/deliveries/{}/again", options.name, options.delivery);
            let made: Delivery = context.client.post(&path, &serde_json::json!({})).await?;
            told(&made, context)
        }
        CallIn::Body(options) => {
            let path = format!("/api/call-ins/{}/deliveries/{}", options.name, options.delivery);
            let found: Delivery = context.client.get(&path, &[]).await?;
            if context.json {
                return print_json(&found);
            }
            println!("{}", view::output(&found.body.unwrap_or_default()));
            Ok(())
        }
        CallIn::Send(options) => send(options, context).await,
        CallIn::Pause(named) => pause(&named.name, true, context).await,
        CallIn::Resume(named) => pause(&named.name, false, context).await,
        CallIn::NewSecret(named) => {
            let path = format!("/api/call-ins/{}/secret", named.name);
            let made: CallInOf = context.client.post(&path, &serde_json::json!({})).await?;
            print_secret(&made, context)
        }
        CallIn::Remove(named) => {
            context.client.delete(&format!("/api/call-ins/{}", named.name)).await?;
            println!("Call-in {} is removed; its runs can still be read.", named.name);
            Ok(())
        }
    }
}

async fn add(options: &AddCallIn, context: &Context) -> Result<(), Failure> {
    let new = NewCallIn {
        name: options.name.clone(),
        brief: options.brief.clone(),
        takes: options.take.clone(),
        whens: options.when.clone(),
        per_minute: Some(options.per_minute),
    };
    let made: CallInOf = context.client.post("/api/call-ins", &new).await?;
    print_secret(&made, context)
}

/// The secret alone on standard output, so that a script can take it.
fn print_secret(made: &CallInOf, context: &Context) -> Result<(), Failure> {
    if context.json {
        return print_json(made);
    }
    eprintln!("Call-in {}: post JSON to {}{}", made.name, context.client.url(), made.path);
    eprintln!("signed as Standard Webhooks says, with this secret, shown this once:");
    println!("{}", made.secret.as_deref().unwrap_or_default());
    Ok(())
}

async fn list(context: &Context) -> Result<(), Failure> {
    let all: Vec<CallInOf> = context.client.get("/api/call-ins", &[]).await?;
    if context.json {
        return print_json(&all);
    }
    if all.is_empty() {
        println!("There is no call-in yet. Make one: kesmo call-in add NAME --brief BRIEF --take commit=/after");
        return Ok(());
    }
    let rows = all.iter().map(|c| {
        let last = c.deliveries.first();
        let last = last.map_or_else(|| "nothing came yet".into(), |d| format!("{} {}", did(d), view::moment(d.at)));
        let name = if c.paused { format!("{} {}", c.name, paint(Paint::Parked, "paused")) } else { c.name.clone() };
        vec![name, c.brief.clone(), c.path.clone(), last]
    });
    print!("{}", view::table(&["call-in", "starts", "address", "last delivery"], rows.collect()));
    Ok(())
}

fn did(delivery: &Delivery) -> String {
    let (glyph, colour) = match delivery.did {
        Did::Started => ("▸", Paint::Running),
        Did::Passed => ("▽", Paint::Skipped),
        Did::Refused => ("⊘", Paint::Void),
    };
    paint(colour, &format!("{glyph} {}", delivery.did.word()))
}

fn show(found: &CallInOf, context: &Context) {
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
        println!("paused; go on with: kesmo call-in resume {}", found.name);
    }
    if found.deliveries.is_empty() {
        println!("\nNothing came yet. Try a body: kesmo call-in try {} --body FILE", found.name);
        return;
    }
    println!();
    let rows = found.deliveries.iter().map(|d| {
        let why = d.again_of.map_or_else(|| d.why.clone(), |of| format!("{} (again of {of})", d.why));
        let size = Bytes(d.bytes.into()).to_string();
        vec![d.id.to_string(), view::moment(d.at), did(d), d.run.clone().unwrap_or_default(), size, why]
    });
    print!("{}", view::table(&[">number", "came", "did", "run", ">size", "why"], rows.collect()));
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

async fn try_body(options: &TryCallIn, context: &Context) -> Result<(), Failure> {
    let content = read_body(&options.body)?;
    let text = String::from_utf8(content).map_err(|_| Failure::call("the body is no UTF-8"))?;
    let body = api::TryCallIn { body: text, content_type: options.content_type.clone() };
    let tried: Tried = context.client.post(&format!("/api/call-ins/{}/try", options.name), &body).await?;
    if context.json {
        return print_json(&tried);
    }
    match tried.did {
        Did::Started => {
            println!("It would start a run with these settings:\n{}", tried.toml.unwrap_or_default().trim_end())
        }
        Did::Passed => println!("It would be passed over: {}", tried.why),
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

async fn send(options: &SendCallIn, context: &Context) -> Result<(), Failure> {
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
    let made: Delivery = context.client.post_signed(&format!("/call-in/{}", options.name), &headers, content).await?;
    told(&made, context)
}

async fn pause(name: &str, paused: bool, context: &Context) -> Result<(), Failure> {
    let made: CallInOf = context.client.post(&format!("/api/call-ins/{name}/pause"), &Pause { paused }).await?;
    if context.json {
        return print_json(&made);
    }
    match paused {
        true => println!("Call-in {name} is paused: what comes is refused until `kesmo call-in resume {name}`."),
        false => println!("Call-in {name} takes deliveries again."),
    }
    Ok(())
}

//! The arguments of `commands/reach.rs`.

use clap::Args;

#[derive(Debug, Args)]
pub struct Reach {
    /// Addresses that this machine can reach, by the names that suites call them [else: what is offered now is shown]
    #[arg(value_name = "NAME=HOST:PORT", value_parser = address)]
    pub addresses: Vec<(String, String)>,
    /// The pool to whose runs they are offered
    #[arg(long, value_name = "POOL", default_value = "main")]
    pub pool: String,
}

/// `NAME=HOST:PORT`.
fn address(text: &str) -> Result<(String, String), String> {
    let (name, to) = text.split_once('=').ok_or("write NAME=HOST:PORT, like gate=127.0.0.1:8080")?;
    kesmo_core::name::Slug::parse("the name", name).map_err(|e| e.to_string())?;
    let (host, port) = to.rsplit_once(':').ok_or_else(|| format!("{to:?} has no port: write NAME=HOST:PORT"))?;
    let fits = !host.is_empty() && host.chars().all(|c| c.is_ascii_alphanumeric() || ".-_:[]".contains(c));
    if !fits {
        return Err(format!("{host:?} is not the name or number of a machine"));
    }
    match port.parse::<u16>() {
        Ok(port) if port > 0 => Ok((name.to_owned(), to.to_owned())),
        _ => Err(format!("{port:?} is not a port: write a number from 1 to 65535")),
    }
}

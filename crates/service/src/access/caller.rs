//! From where a call comes.

use std::net::IpAddr;

use kesmo_tls::answering::Callers;
use rocket::Request;

use crate::app::App;

/// Where a call comes from, and whether nobody on the way could read it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Caller {
    pub address: Option<IpAddr>,
    pub https: bool,
}

impl Caller {
    /// Who sent a request. A proxy's word is taken only where it was named (`--behind-proxy`): anybody can write such headers.
    #[must_use]
    pub fn of(request: &Request<'_>) -> Self {
        let Some(app) = request.rocket().state::<App>() else { return Self::default() };
        let seen = request.remote().map(|peer| peer_of(peer, &app.callers));
        let header = |name| request.headers().get(name).collect::<Vec<_>>().join(",");
        forwarded(seen.unwrap_or_default(), &app.behind, &header("X-Forwarded-For"), &header("X-Forwarded-Proto"))
    }
}

/// Who is at the other end of a connection that the web server has.
fn peer_of(peer: std::net::SocketAddr, callers: &Callers) -> Caller {
    let over_tls = if peer.ip().is_loopback() { callers.of(peer.port()) } else { None };
    let address = over_tls.unwrap_or(peer).ip().to_canonical();
    Caller { address: Some(address), https: over_tls.is_some() }
}

/// What proxies that are trusted say of it: each puts whom it heard from at the end, and the last one that is none of them called.
fn forwarded(seen: Caller, trusted: &[IpAddr], chain: &str, scheme: &str) -> Caller {
    let known = |address: IpAddr| trusted.iter().any(|one| one.to_canonical() == address);
    if !seen.address.is_some_and(known) {
        return seen;
    }
    let mut caller = Caller { https: seen.https || scheme.trim().eq_ignore_ascii_case("https"), ..seen };
    for one in chain.rsplit(',').map(str::trim).filter(|one| !one.is_empty()) {
        // What is no address is of nobody who can be named.
        let Ok(address) = one.parse::<IpAddr>() else { break };
        caller.address = Some(address.to_canonical());
        if !known(address.to_canonical()) {
            break;
        }
    }
    caller
}

#[cfg(test)]
mod tests {
    use super::*;

    fn from(address: &str) -> Caller {
        Caller { address: Some(address.parse().expect("an address")), https: false }
    }

    #[test]
    fn a_proxys_word_is_taken_only_where_it_was_named() {
        let trusted = ["10.0.0.1".parse().expect("an address"), "10.0.0.2".parse().expect("an address")];
        let said = |seen: &str, chain: &str, scheme: &str| {
            let caller = forwarded(from(seen), &trusted, chain, scheme);
            (caller.address.expect("an address").to_string(), caller.https)
        };
        assert_eq!(
            said("192.0.2.7", "198.51.100.1", "https"),
            ("192.0.2.7".into(), false),
            "anybody may write headers"
        );
        assert_eq!(said("10.0.0.1", "198.51.100.1", "https"), ("198.51.100.1".into(), true));
        assert_eq!(
            said("10.0.0.1", "1.1.1.1, 198.51.100.1, 10.0.0.2", "http"),
            ("198.51.100.1".into(), false),
            "what came before them is anybody's word"
        );
        assert_eq!(said("10.0.0.1", "", ""), ("10.0.0.1".into(), false));
        assert_eq!(said("10.0.0.1", "198.51.100.1, nonsense", "https"), ("10.0.0.1".into(), true));
    }
}

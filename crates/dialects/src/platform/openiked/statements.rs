//! The statements of iked.conf(5) of 7.2: settings of the daemon, and the parts of a policy in the order in which they are written.

use std::time::Duration;

use ipnet::IpNet;

use super::IKE_EARLY;
use super::profile::default;
use super::proposal;
use super::syntax::{BETWEEN, quote};
use crate::dialect::Unwritable;
use crate::profile::Profile;
use crate::profile::statement::{Codec, Field, ProtocolPort, Record, Section, Spelling, Statement, Value, of_another_kind};
use crate::text::prefix;
use uspan_model::gateway::{Bearing, Endpoint, Identity, Method, Mode, Opening, Protocol, ip_protocol};
use uspan_model::subject::Subject;

const SECONDS: Codec = Codec::Own(Spelling { write: write_seconds, read: |_, text| duration(text).map(Value::Time) });
const AGE: Codec =
    Codec::Own(Spelling { write: write_seconds, read: |_, text| duration(text).filter(|age| !age.is_zero()).map(Value::Time) });
const ADDRESSES: Codec = Codec::Own(Spelling { write: write_endpoint, read: |_, text| read_endpoint(text) });
const IDENTITIES: Codec = Codec::Own(Spelling { write: write_identity, read: |_, text| identity(text).map(Value::Identity) });
const PROTOCOLS: Codec = Codec::Own(Spelling { write: write_protocol, read: |_, text| read_protocol(text) });
const PAIRS: Codec = Codec::Items(Spelling { write: write_pair, read: |_, text| read_pair(text) }, BETWEEN);
const IKE: Codec =
    Codec::Items(Spelling { write: proposal::write, read: |profile, text| proposal::read(profile, text, Protocol::Ike) }, BETWEEN);
const ESP: Codec =
    Codec::Items(Spelling { write: proposal::write, read: |profile, text| proposal::read(profile, text, Protocol::Esp) }, BETWEEN);

/// Why one way to sign is as another.
const SIGNS: &str = "the hub has one way to sign; which key it is with the files of keys say";

/// The grammar has more than is read: lists, ports, addresses of another family. It is named, and not blamed.
const MORE: fn(&Profile, &str) -> bool = |_, _| true;

/// All rows.
#[rustfmt::skip]
pub(super) fn statements() -> Vec<Statement> {
    use Section::{Connection, Daemon};
    let (row, alone, idle) = (Statement::new, Statement::alone, Statement::idle);
    let signs = || Value::Method(Method::PublicKey);
    vec![
        row(Daemon, "dpd_check_interval", Field::Liveness, SECONDS).or("60"),
        alone(Daemon, "passive", Field::Opening, Value::Opening(Opening::WAIT)).spares("an end that only answers stays as it is"),
        idle(Daemon, "active", "it is so where nothing is said"),
        idle(Daemon, "couple", "SAs are loaded into the kernel where nothing is said; without it there would be none at all"),
        idle(Daemon, "enforcesingleikesa", "it concerns several IKE SAs of one peer, which the hub does not have"),
        idle(Daemon, "noenforcesingleikesa", "the same"),
        idle(Daemon, "fragmentation", "IKE messages in pieces (RFC 7383) are offered, and do not have to be taken"),
        idle(Daemon, "nofragmentation", "the same"),
        idle(Daemon, "cert_partial_chain", "which certificates in a chain are believed is not known to the hub"),
        idle(Daemon, "mobike", "a change of addresses (RFC 4555) is offered, and does not have to be taken"),
        idle(Daemon, "nomobike", "the same"),
        Statement::only(Daemon, "decouple", []),
        Statement::aside(Daemon, "ocsp", [], "whose certificates are still good is asked elsewhere"),
        Statement::aside(Daemon, "cert_path", [], "where certificates are looked for"),
        idle(Daemon, "stickyaddress", "it concerns addresses that are given to peers"),
        idle(Daemon, "nostickyaddress", "the same"),
        idle(Daemon, "vendorid", "it tells the peer a name"),
        idle(Daemon, "novendorid", "the same"),
        alone(Connection, "active", Field::Opening, Value::Opening(Opening::START)),
        alone(Connection, "passive", Field::Opening, Value::Opening(Opening::WAIT)).or("passive"),
        alone(Connection, "transport", Field::Mode, Value::Mode(Mode::Transport)),
        alone(Connection, "tunnel", Field::Mode, Value::Mode(Mode::Tunnel)).or("tunnel").unwritten(),
        alone(Connection, "esp", Field::SaProtocol, Value::Protocol(Protocol::Esp)).or("esp").unwritten().spares("it holds without the word, too"),
        alone(Connection, "ah", Field::SaProtocol, Value::Protocol(Protocol::Ah)).unwritten(),
        Statement::aside(Connection, "ipcomp", [], "compression is offered, and does not have to be taken"),
        Statement::aside(Connection, "iface", [], "where packets come out is not what they are"),
        Statement::aside(Connection, "tag", [], "marks for other programs"),
        Statement::aside(Connection, "tap", [], "marks for other programs"),
        Statement::bearing(Connection, "rdomain", [], Bearing::Refused),
        Statement::only(Connection, "config", []),
        Statement::only(Connection, "request", []),
        Statement::bearing(Connection, "eap", [], Bearing::Authentication),
        idle(Connection, "default", "it concerns peers that no other policy is for"),
        idle(Connection, "skip", "the reader leaves such a policy out"),
        idle(Connection, "quick", "it concerns several policies for the same packets"),
        idle(Connection, "inet", "addresses tell their family"),
        idle(Connection, "inet6", "the same"),
        idle(Connection, ",", "between values of a list"),
        row(Connection, "proto", Field::LocalProtocol, PROTOCOLS).beside(MORE),
        row(Connection, "from", Field::Pairs, PAIRS).beside(MORE),
        row(Connection, "local", Field::LocalAddress, ADDRESSES).or("any").unless_default().beside(MORE),
        row(Connection, "peer", Field::RemoteAddress, ADDRESSES).or_derived(peer).beside(MORE),
        row(Connection, "ikesa", Field::IkeProposals, IKE),
        row(Connection, "childsa", Field::EspProposals, ESP),
        row(Connection, "srcid", Field::LocalIdentity, IDENTITIES).beside(MORE),
        row(Connection, "dstid", Field::RemoteIdentity, IDENTITIES).beside(MORE),
        row(Connection, "ikelifetime", Field::IkeSoftLife, AGE).or_derived(|_, _| Some(Value::Time(default::IKE_LIFETIME - IKE_EARLY))).beside(MORE),
        row(Connection, "lifetime", Field::EspHardLife, SECONDS).or("10800").beside(MORE),
        // A secret is no value of a record.
        idle(Connection, "psk", "the reader takes it as a secret"),
        alone(Connection, "rfc7427", Field::LocalMethod, signs()),
        alone(Connection, "signature", Field::LocalMethod, signs()).unwritten().spares(SIGNS),
        alone(Connection, "rsa", Field::LocalMethod, signs()).unwritten().spares(SIGNS),
        alone(Connection, "ecdsa256", Field::LocalMethod, signs()).unwritten().spares(SIGNS),
        alone(Connection, "ecdsa384", Field::LocalMethod, signs()).unwritten().spares(SIGNS),
        alone(Connection, "ecdsa521", Field::LocalMethod, signs()).unwritten().spares(SIGNS),
    ]
}

/// Between hosts the peer is where the packets go.
fn peer(_: &Profile, record: &Record) -> Option<Value> {
    let pairs: Vec<[Option<IpNet>; 2]> = record.value(Field::Pairs)?;
    let mut remotes: Vec<_> = pairs.iter().map(|pair| pair[1]).collect();
    remotes.dedup();
    match remotes.as_slice() {
        [Some(one)] if one.prefix_len() == one.max_prefix_len() => Some(Value::Endpoint(Endpoint::At(one.addr()))),
        _ => Some(Value::Endpoint(Endpoint::Anywhere)),
    }
}

fn refuse<T>(what: impl Into<String>, remedy: &'static str) -> Result<T, Vec<Unwritable>> {
    Err(vec![Unwritable::new(what.into(), remedy)])
}

fn write_seconds(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    if let Value::Time(time) = value { Ok(time.as_secs().to_string()) } else { Err(of_another_kind()) }
}

/// Seconds, or a number with `m` or `h`, in any case.
fn duration(text: &str) -> Option<Duration> {
    match text.parse::<u64>() {
        Ok(seconds) => Some(Duration::from_secs(seconds)),
        Err(_) => uspan_model::duration::parse_one_unit(&text.to_ascii_lowercase()),
    }
}

fn write_endpoint(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    match value {
        Value::Endpoint(Endpoint::Anywhere) => Ok("any".to_owned()),
        Value::Endpoint(end) => Ok(end.to_string()),
        _ => Err(of_another_kind()),
    }
}

fn read_endpoint(text: &str) -> Option<Value> {
    Some(Value::Endpoint(match text.parse::<IpNet>() {
        _ if text == "any" => Endpoint::Anywhere,
        Ok(net) if text.contains('/') => Endpoint::Within(net),
        _ => Endpoint::read(text)?,
    }))
}

fn write_identity(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Identity(identity) = value else { return Err(of_another_kind()) };
    let text = match identity {
        Identity::Address(address) => quote(&address.to_string()),
        // The daemon guesses the kind from the form.
        Identity::Name(name) if name.contains(['@', '/', ':']) || name.parse::<std::net::IpAddr>().is_ok() => {
            return refuse(format!("the DNS name `{name}`, which OpenIKED would take for another kind of identity"), "Use a plain name.");
        }
        Identity::Mail(name) if !name.contains('@') || name.starts_with('/') => {
            return refuse(format!("the mail-like name `{name}`, which OpenIKED would take for another kind"), "Use a plain name.");
        }
        Identity::Name(name) | Identity::Mail(name) => quote(name),
        Identity::Subject(subject) => quote(&subject.slashed()),
        Identity::Anybody | Identity::Implied(_) => Err(Unwritable::no_identity()),
        Identity::Free(_) => return refuse("an identity without form (ID_KEY_ID), which OpenIKED does not know", "Use a DNS name."),
    };
    text.map_err(|refused| vec![refused])
}

/// The daemon tells kinds of identities by their form.
fn identity(text: &str) -> Option<Identity> {
    Some(match text.parse() {
        Ok(address) => Identity::Address(address),
        Err(_) if text.starts_with('/') => Identity::Subject(Subject::read_slashed(text)?),
        Err(_) if text.contains('@') => Identity::Mail(text.to_owned()),
        Err(_) => Identity::Name(text.to_owned()),
    })
}

fn write_protocol(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    if let Value::ProtocolPort(ProtocolPort { protocol, .. }) = value { Ok(protocol.to_string()) } else { Err(of_another_kind()) }
}

fn read_protocol(text: &str) -> Option<Value> {
    Some(Value::ProtocolPort(ProtocolPort { protocol: ip_protocol(text)?, port: None }))
}

fn write_pair(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    match value {
        Value::Pairs(list) => {
            let word = |net: &Option<IpNet>| net.map_or_else(|| "any".to_owned(), |net| net.to_string());
            Ok(list.iter().map(|[from, to]| format!("{} to {}", word(from), word(to))).collect::<Vec<_>>().join(BETWEEN))
        }
        _ => Err(of_another_kind()),
    }
}

fn read_pair(text: &str) -> Option<Value> {
    let net = |word: &str| if word == "any" { Some(None) } else { prefix(word).map(Some) };
    let (from, to) = text.split_once(" to ")?;
    Some(Value::Pairs(vec![[net(from)?, net(to)?]]))
}

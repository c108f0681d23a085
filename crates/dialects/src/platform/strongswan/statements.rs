//! The statements of swanctl.conf(5) of 5.9.8, in the order in which they are written.

use std::time::Duration;

use super::proposal;
use super::syntax::quote;
use crate::dialect::Unwritable;
use crate::profile::statement::{About, Codec, Field, Record, Section, Selector, Spelling, Statement, Value, of_another_kind, words};
use crate::profile::{Profile, v1_patience};
use crate::text::prefix;
use uspan_model::address_text;
use uspan_model::gateway::{
    Dscp, Encapsulation, Endpoint, GRE, Identity, IkeVersion, Method, Mode, OnDeadPeer, Opening, Proposal, Protocol,
};
use uspan_model::subject::Subject;

fn versions() -> Codec {
    words([("1", Value::Version(IkeVersion::V1)), ("2", Value::Version(IkeVersion::V2))])
}
fn encapsulations() -> Codec {
    words([
        ("yes", Value::Encapsulation(Encapsulation::Forced)),
        ("no", Value::Encapsulation(Encapsulation::Automatic)),
        ("true", Value::Encapsulation(Encapsulation::Forced)),
        ("false", Value::Encapsulation(Encapsulation::Automatic)),
        ("1", Value::Encapsulation(Encapsulation::Forced)),
        ("0", Value::Encapsulation(Encapsulation::Automatic)),
        ("enabled", Value::Encapsulation(Encapsulation::Forced)),
        ("disabled", Value::Encapsulation(Encapsulation::Automatic)),
    ])
}
/// A signature is one with a bare key where a key is named, else one with a certificate.
fn methods() -> Codec {
    words([
        ("psk", Value::Method(Method::SharedSecret)),
        ("pubkey", Value::Method(Method::Certificate)),
        ("pubkey", Value::Method(Method::PublicKey)),
    ])
}
fn modes() -> Codec {
    words([("tunnel", Value::Mode(Mode::Tunnel)), ("transport", Value::Mode(Mode::Transport))])
}
/// `trap` beside `start` keeps packets from leaving in clear while the tunnel is down.
fn openings() -> Codec {
    words([
        ("trap|start", Value::Opening(Opening::BOTH)),
        ("start|trap", Value::Opening(Opening::BOTH)),
        ("start", Value::Opening(Opening::START)),
        ("trap", Value::Opening(Opening::TRAP)),
        ("none", Value::Opening(Opening::WAIT)),
    ])
}
fn on_dead_peer() -> Codec {
    words([
        ("restart", Value::OnDeadPeer(OnDeadPeer::Reopen)),
        ("start", Value::OnDeadPeer(OnDeadPeer::Reopen)),
        ("trap", Value::OnDeadPeer(OnDeadPeer::AwaitTraffic)),
        ("clear", Value::OnDeadPeer(OnDeadPeer::Forget)),
        ("none", Value::OnDeadPeer(OnDeadPeer::Forget)),
    ])
}
fn dscp() -> Codec {
    words([("out", Value::Dscp(Dscp::Outwards)), ("yes", Value::Dscp(Dscp::Both)), ("no", Value::Dscp(Dscp::Never))])
}

const ADDRESSES: Codec = Codec::Own(Spelling { write: write_endpoint, read: read_endpoint });
const IDENTITIES: Codec = Codec::Own(Spelling { write: write_identity, read: |_, text| read_identity(text).map(Value::Identity) });
const FILES: Codec = Codec::Own(Spelling { write: write_text, read: |_, text| Some(Value::Text(text.to_owned())) });
const IKE: Codec =
    Codec::Items(Spelling { write: write_proposal, read: |profile, text| read_proposal(profile, text, Protocol::Ike) }, ", ");
const ESP: Codec =
    Codec::Items(Spelling { write: write_proposal, read: |profile, text| read_proposal(profile, text, Protocol::Esp) }, ", ");
const SELECTORS: Codec = Codec::Items(Spelling { write: write_selector, read: |_, text| read_selector(text) }, ", ");

/// All rows.
#[rustfmt::skip]
pub(super) fn statements() -> Vec<Statement> {
    use Section::{Child, Connection, LocalEnd, RemoteEnd};
    let row = Statement::new;
    vec![
        row(Connection, "version", Field::Version, versions()).or("2"),
        row(Connection, "aggressive", Field::Aggressive, Codec::Flag).or("no").unless_default().spares("IKEv2 has no aggressive mode"),
        row(Connection, "local_addrs", Field::LocalAddress, ADDRESSES).or("%any").about(About::Addresses),
        row(Connection, "remote_addrs", Field::RemoteAddress, ADDRESSES).or("%any"),
        row(Connection, "encap", Field::Encapsulation, encapsulations()).or("no").unless_default()
            .cannot("ESP never in UDP, which strongSwan decides for the whole daemon", "Leave it automatic."),
        row(Connection, "proposals", Field::IkeProposals, IKE).or_derived(default_ike).about(About::Ike),
        row(Connection, "rekey_time", Field::IkeSoftLife, Codec::Time).or("4h").about(About::IkeLifetime),
        row(Connection, "over_time", Field::IkeMargin, Codec::Time).or_derived(tenth_of_ike),
        row(Connection, "if_id_in", Field::InterfaceIn, Codec::Number).about(About::Routes),
        row(Connection, "if_id_out", Field::InterfaceOut, Codec::Number),
        row(Connection, "dpd_delay", Field::Liveness, Codec::Time).or("0s").unless_default().about(About::Liveness),
        row(Connection, "dpd_timeout", Field::Patience, Codec::Time).or("150s").spares("without liveness, or in IKEv2, which retransmits instead, it is not used"),
        row(Connection, "keyingtries", Field::Tries, Codec::Number).or("1").unless_default().note("0: try for ever to reach the peer")
            .spares("once or several times is the same to the hub: it gives up"),
        // Some peers do not ask for it.
        row(Connection, "send_cert", Field::ShowsCertificate, words([("always", Value::Flag(true))])).beside(|text| ["never", "ifasked"].contains(&text))
            .spares("peers of the hub are shown a certificate whether they ask or not"),
        row(LocalEnd, "auth", Field::LocalMethod, methods()).or("pubkey").beside(is_other_method),
        row(LocalEnd, "pubkeys", Field::LocalKey, FILES),
        row(LocalEnd, "certs", Field::LocalCertificate, FILES),
        row(LocalEnd, "id", Field::LocalIdentity, IDENTITIES),
        row(RemoteEnd, "auth", Field::RemoteMethod, methods()).or("pubkey").beside(is_other_method),
        row(RemoteEnd, "pubkeys", Field::RemoteKey, FILES),
        row(RemoteEnd, "cacerts", Field::Authority, FILES),
        row(RemoteEnd, "id", Field::RemoteIdentity, IDENTITIES),
        row(Child, "local_ts", Field::LocalSelectors, SELECTORS).or("dynamic").about(About::Selectors),
        row(Child, "remote_ts", Field::RemoteSelectors, SELECTORS).or("dynamic"),
        row(Child, "esp_proposals", Field::EspProposals, ESP).or_derived(default_esp).about(About::Esp),
        row(Child, "mode", Field::Mode, modes()).or("tunnel"),
        row(Child, "rekey_time", Field::EspSoftLife, Codec::Time).or("1h").about(About::EspLifetime),
        row(Child, "life_time", Field::EspHardLife, Codec::Time).or_derived(tenth_over_esp),
        row(Child, "start_action", Field::Opening, openings()).or("none").about(About::Opening),
        row(Child, "dpd_action", Field::OnDeadPeer, on_dead_peer()),
        row(Child, "copy_dscp", Field::Dscp, dscp()).or("out").unless_default(),
        row(Child, "replay_window", Field::ReplayWindow, Codec::Number).or("32"),
    ]
}

/// Ways of proving an identity that the daemon has beside those of the hub (swanctl.conf(5), `auth`).
fn is_other_method(text: &str) -> bool {
    ["any", "eap", "xauth", "rsa", "ecdsa", "ed25519", "ed448", "bliss", "ike:", "pubkey-"].iter().any(|start| text.starts_with(start))
}

fn default_ike(profile: &Profile, record: &Record) -> Option<Value> {
    Some(Value::Proposals(profile.offers.ike(record.value(Field::Version)?)))
}

fn default_esp(profile: &Profile, _: &Record) -> Option<Value> {
    Some(Value::Proposals(profile.offers.esp(IkeVersion::V2)))
}

fn tenth_of_ike(_: &Profile, record: &Record) -> Option<Value> {
    record.value(Field::IkeSoftLife).map(|soft: Duration| Value::Time(soft / 10))
}

fn tenth_over_esp(_: &Profile, record: &Record) -> Option<Value> {
    record.value(Field::EspSoftLife).map(|soft: Duration| Value::Time(soft + soft / 10))
}

/// How long a silent peer is given: five times the interval where that is planned.
pub(super) fn patience(version: IkeVersion, liveness: Option<Duration>) -> Option<Duration> {
    liveness.filter(|_| version == IkeVersion::V1).map(v1_patience)
}

fn write_endpoint(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Endpoint(end) = value else { return Err(of_another_kind()) };
    Ok(address_text::endpoint(end, "%any"))
}

fn read_endpoint(_: &Profile, text: &str) -> Option<Value> {
    let one = |text: &str| match text {
        "%any" | "%any4" | "%any6" => Some(Endpoint::Anywhere),
        net if net.contains('/') => net.parse().ok().map(Endpoint::Within),
        one => Endpoint::read(one),
    };
    let items = text.split(',').map(str::trim).filter(|item| !item.is_empty());
    let mut several: Vec<_> = items.map(one).collect::<Option<_>>()?;
    Some(Value::Endpoint(match several.len() {
        0 => return None,
        1 => several.remove(0),
        _ if several.contains(&Endpoint::Anywhere) => Endpoint::Anywhere,
        _ => Endpoint::OneOf(several),
    }))
}

/// An identity with the type prefix that keeps the daemon from guessing.
fn write_identity(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Identity(identity) = value else { return Err(of_another_kind()) };
    identity_text(identity).map_err(|refused| vec![refused])
}

pub(super) fn identity_text(identity: &Identity) -> Result<String, Unwritable> {
    quote(&match identity {
        Identity::Anybody | Identity::Implied(_) => return Err(Unwritable::no_identity()),
        Identity::Address(address) => address_text::address(*address),
        Identity::Name(name) => ["fqdn:", name].concat(),
        Identity::Mail(name) => ["rfc822:", name].concat(),
        Identity::Free(name) => ["keyid:", name].concat(),
        // The equals signs tell the kind.
        Identity::Subject(subject) => subject.to_string(),
    })
}

pub(super) fn read_identity(text: &str) -> Option<Identity> {
    if let Ok(address) = text.parse() {
        return Some(Identity::Address(address));
    }
    Some(match text.split_once(':') {
        Some(("fqdn" | "dns", name)) => Identity::Name(name.to_owned()),
        Some(("rfc822" | "email" | "userfqdn", name)) => Identity::Mail(name.to_owned()),
        Some(("keyid", name)) => Identity::Free(name.to_owned()),
        Some(_) => return None,
        None if text.contains('=') => Identity::Subject(Subject::read(text)?),
        None if text.contains('@') => Identity::Mail(text.to_owned()),
        None => Identity::Name(text.to_owned()),
    })
}

fn write_text(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Text(text) = value else { return Err(of_another_kind()) };
    Ok(text.clone())
}

fn write_proposal(profile: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Proposals(list) = value else { return Err(of_another_kind()) };
    let one: &Proposal = list.first().ok_or_else(of_another_kind)?;
    proposal::write(profile, one).map_err(|refused| vec![refused])
}

fn read_proposal(profile: &Profile, text: &str, protocol: Protocol) -> Option<Value> {
    proposal::read(profile, text, protocol).map(|one| Value::Proposals(vec![one]))
}

fn write_selector(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Selectors(list) = value else { return Err(of_another_kind()) };
    let Selector { net, protocol } = list.first().ok_or_else(of_another_kind)?;
    let net = net.map_or_else(|| "dynamic".to_owned(), address_text::prefix);
    Ok(protocol.map_or(net.clone(), |protocol| format!("{net}[{protocol}]")))
}

/// A prefix or the end itself, and the protocol in brackets that it is limited to.
fn read_selector(text: &str) -> Option<Value> {
    let (net, limited) = match text.split_once('[') {
        Some((net, limited)) => (net, Some(limited.strip_suffix(']')?)),
        None => (text, None),
    };
    let net = if net == "dynamic" { None } else { Some(prefix(net)?) };
    let protocol = match limited {
        Some(limited) => Some(ip_protocol(limited)?),
        None => None,
    };
    Some(Value::Selectors(vec![Selector { net, protocol }]))
}

/// An IP protocol by number or name (IANA protocol numbers), for any port.
fn ip_protocol(text: &str) -> Option<u8> {
    let (name, port) = text.split_once('/').unwrap_or((text, "any"));
    let number = match name {
        "icmp" => 1,
        "tcp" => 6,
        "udp" => 17,
        "gre" => GRE,
        "esp" => 50,
        "ah" => 51,
        "ipv6-icmp" | "icmpv6" => 58,
        _ => name.parse().ok()?,
    };
    matches!(port, "any" | "0" | "%any" | "").then_some(number)
}

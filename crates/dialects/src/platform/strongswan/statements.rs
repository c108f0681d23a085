//! The statements of swanctl.conf(5) of 5.9.8, in the order in which they are written.

use std::time::Duration;

use super::proposal;
use super::syntax::quote;
use crate::dialect::Unwritable;
use crate::profile::statement::{About, Codec, Field, Record, Section, Selector, Spelling, Statement, Value, of_another_kind, words};
use crate::profile::{Profile, v1_patience};
use crate::text::{ip_port, prefix};
use uspan_model::address_text;
use uspan_model::gateway::{
    Bearing, Dscp, Encapsulation, Endpoint, Identity, IkeVersion, Method, Mode, OnDeadPeer, Opening, Proposal, Protocol, ip_protocol,
};
use uspan_model::subject::Subject;

fn versions() -> Codec {
    words([("1", Value::Version(IkeVersion::V1)), ("2", Value::Version(IkeVersion::V2)), ("0", Value::Version(IkeVersion::V2))])
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
/// A signature is one with a bare key where a key is named, else one with a certificate; which hashes it may have does not matter here.
const METHODS: Codec = Codec::Own(Spelling { write: write_method, read: |_, text| read_method(text) });

fn write_method(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    match value {
        Value::Method(Method::SharedSecret) => Ok("psk".to_owned()),
        Value::Method(Method::Certificate | Method::PublicKey) => Ok("pubkey".to_owned()),
        _ => Err(of_another_kind()),
    }
}

pub(super) fn read_method(text: &str) -> Option<Value> {
    let signs = |way: &str| ["pubkey", "rsa", "ecdsa", "ed25519", "ed448", "bliss", "ike"].contains(&way);
    match text {
        "psk" => Some(Value::Method(Method::SharedSecret)),
        _ => signs(text.split(['-', ':']).next().unwrap_or_default()).then_some(Value::Method(Method::Certificate)),
    }
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
const AH: Codec = Codec::Items(Spelling { write: write_proposal, read: |profile, text| read_proposal(profile, text, Protocol::Ah) }, ", ");
const INTERFACES: Codec = Codec::Own(Spelling { write: write_number, read: |_, text| read_interface(text) });
const SELECTORS: Codec = Codec::Items(Spelling { write: write_selector, read: |_, text| read_selector(text) }, ", ");

/// Why some of what the daemon knows decides nothing.
const AROUND: &str = "what happens beside the SAs, not whether they come up or what they carry";
const OFFERED: &str = "it is offered, and does not have to be taken";
const OF_LIMITS: &str = "SAs are replaced earlier, or in another way";

/// All rows.
// Long: a list.
#[rustfmt::skip]
pub(super) fn statements() -> Vec<Statement> {
    use Section::{Child, Connection, LocalEnd, RemoteEnd};
    let row = Statement::new;
    let mut rows = vec![
        row(Connection, "version", Field::Version, versions()).or("2"),
        row(Connection, "aggressive", Field::Aggressive, Codec::Flag).or("no").unless_default().spares("IKEv2 has no aggressive mode"),
        row(Connection, "local_addrs", Field::LocalAddress, ADDRESSES).or("%any").about(About::Addresses),
        row(Connection, "remote_addrs", Field::RemoteAddress, ADDRESSES).or("%any"),
        row(Connection, "encap", Field::Encapsulation, encapsulations()).or("no").unless_default()
            .cannot("ESP never in UDP, which strongSwan decides for the whole daemon", "Leave it automatic."),
        row(Connection, "proposals", Field::IkeProposals, IKE).or_derived(default_ike).about(About::Ike).beside(proposal::is_outside),
        row(Connection, "rekey_time", Field::IkeSoftLife, Codec::Time).or("4h").about(About::IkeLifetime),
        row(Connection, "over_time", Field::IkeMargin, Codec::Time).or_derived(tenth_of_ike),
        row(Connection, "if_id_in", Field::InterfaceIn, INTERFACES).spares("0 is none, as where nothing is said").about(About::Routes).beside(|_, text| text.starts_with('%')),
        row(Connection, "if_id_out", Field::InterfaceOut, INTERFACES).spares("0 is none, as where nothing is said").beside(|_, text| text.starts_with('%')),
        row(Connection, "dpd_delay", Field::Liveness, Codec::Time).or("0s").unless_default().about(About::Liveness),
        row(Connection, "dpd_timeout", Field::Patience, Codec::Time).or("0s").spares("without liveness, or in IKEv2, which retransmits instead, it is not used"),
        row(Connection, "keyingtries", Field::Tries, Codec::Number).or("1").unless_default().note("0: try for ever to reach the peer")
            .spares("once or several times is the same to the hub: it gives up"),
        row(Connection, "mobike", Field::OffersMobility, words([("no", Value::Flag(false))])).aside_else()
            .spares("it is offered, and does not have to be taken"),
        // Some peers do not ask for it.
        row(Connection, "send_cert", Field::ShowsCertificate, words([("always", Value::Flag(true))])).aside_else()
            .spares("peers of the hub are shown a certificate whether they ask or not"),
        // A peer may have it from elsewhere then.
        Statement::bearing(Connection, "send_cert", ["ifasked", "always"], Bearing::Authentication),
        row(LocalEnd, "auth", Field::LocalMethod, METHODS).or("pubkey").beside(is_other_method),
        row(LocalEnd, "pubkeys", Field::LocalKey, FILES),
        row(LocalEnd, "certs", Field::LocalCertificate, FILES),
        row(LocalEnd, "id", Field::LocalIdentity, IDENTITIES).beside(is_other_identity),
        row(RemoteEnd, "auth", Field::RemoteMethod, METHODS).or("pubkey").beside(is_other_method),
        row(RemoteEnd, "pubkeys", Field::RemoteKey, FILES),
        row(RemoteEnd, "cacerts", Field::Authority, FILES),
        row(RemoteEnd, "id", Field::RemoteIdentity, IDENTITIES).beside(is_other_identity),
        row(Child, "local_ts", Field::LocalSelectors, SELECTORS).or("dynamic").about(About::Selectors).beside(is_port),
        row(Child, "remote_ts", Field::RemoteSelectors, SELECTORS).or("dynamic").beside(is_port),
        row(Child, "esp_proposals", Field::EspProposals, ESP).or_derived(default_esp).about(About::Esp).beside(proposal::is_outside),
        row(Child, "ah_proposals", Field::AhProposals, AH).beside(proposal::is_outside),
        row(Child, "mode", Field::Mode, modes()).or("tunnel").beside(|_, text| ["transport_proxy", "beet", "pass", "drop"].contains(&text)),
        row(Child, "rekey_time", Field::EspSoftLife, Codec::Time).or("1h").about(About::EspLifetime),
        row(Child, "life_time", Field::EspHardLife, Codec::Time).or_derived(tenth_over_esp),
        row(Child, "start_action", Field::Opening, openings()).or("none").about(About::Opening),
        row(Child, "dpd_action", Field::OnDeadPeer, on_dead_peer()),
        row(Child, "copy_dscp", Field::Dscp, dscp()).or("out").unless_default().beside(|_, text| text == "in"),
        row(Child, "replay_window", Field::ReplayWindow, Codec::Number).or("32"),
        // What has no field: what carries it, who is let in from a distance,
        row(Connection, "local_port", Field::OwnPort, Codec::Number).or("500").unwritten(),
        row(Connection, "remote_port", Field::PeerPort, Codec::Number).or("500").unwritten(),
        Statement::only(Connection, "vips", []),
        Statement::only(Connection, "pools", []),
        Statement::only(Connection, "mediation", ["no"]),
        Statement::only(Connection, "mediated_by", []),
        Statement::only(Connection, "mediation_peer", []),
        Statement::only(Connection, "childless", ["allow", "prefer", "never"]),
        Statement::only(Child, "label", []),
        Statement::only(Child, "label_mode", ["system"]),
        // who may be believed,
        Statement::bearing(Connection, "ppk_required", ["no"], Bearing::Authentication),
        Statement::aside(Connection, "ppk_id", [], OFFERED),
        Statement::bearing(RemoteEnd, "certs", [], Bearing::Authentication),
        Statement::bearing(RemoteEnd, "groups", [], Bearing::Authentication),
        Statement::bearing(RemoteEnd, "cert_policy", [], Bearing::Authentication),
        Statement::bearing(RemoteEnd, "ca_id", [], Bearing::Authentication),
        Statement::bearing(RemoteEnd, "revocation", ["relaxed", "ifuri"], Bearing::Authentication),
        // and what a Child SA carries.
        Statement::bearing(Child, "sha256_96", ["no"], Bearing::ChildSa),
        Statement::bearing(Child, "policies", ["yes"], Bearing::ChildSa),
    ];
    for (section, keyword) in [(LocalEnd, "eap_id"), (LocalEnd, "aaa_id"), (LocalEnd, "xauth_id"), (RemoteEnd, "eap_id"), (RemoteEnd, "eap_vendor")] {
        rows.push(Statement::aside(section, keyword, [], "it is for ways of proving an identity that other settings choose"));
    }
    for section in [LocalEnd, RemoteEnd] {
        rows.push(Statement::idle(section, "round", "the order of several sections of one end"));
    }
    for (keyword, default) in [("send_certreq", "yes"), ("pull", "yes"), ("unique", "no"), ("dscp", "000000")] {
        rows.push(Statement::aside(Connection, keyword, [default], OFFERED));
    }
    rows.push(Statement::idle(Connection, "fragmentation", "messages in pieces are offered, and do not have to be taken"));
    for (keyword, default) in [("reauth_time", "0"), ("rand_time", "")] {
        rows.push(Statement::aside(Connection, keyword, [default, "0s"], OF_LIMITS));
    }
    for keyword in ["life_bytes", "life_packets", "rekey_bytes", "rekey_packets", "rand_time", "rand_bytes", "rand_packets", "inactivity"] {
        rows.push(Statement::aside(Child, keyword, ["0", "0s"], OF_LIMITS));
    }
    for (keyword, default) in [
        ("updown", ""), ("hostaccess", "no"), ("policies_fwd_out", "no"), ("ipcomp", "no"), ("reqid", "0"), ("priority", "0"), ("interface", ""),
        ("mark_in", "0/0x00000000"), ("mark_in_sa", "no"), ("mark_out", "0/0x00000000"), ("set_mark_in", "0/0x00000000"), ("set_mark_out", "0/0x00000000"),
        ("if_id_in", "0"), ("if_id_out", "0"), ("tfc_padding", "0"), ("hw_offload", "no"), ("copy_df", "yes"), ("copy_ecn", "yes"), ("close_action", "none"),
    ] {
        rows.push(Statement::aside(Child, keyword, [default], AROUND));
    }
    rows
}

/// Identities of kinds that the hub does not have, and subjects with attributes that are not read.
fn is_other_identity(_: &Profile, text: &str) -> bool {
    text.contains(':') || text.contains('=') || text.contains('/') || text.contains('-')
}

/// Selectors that are limited to ports.
fn is_port(_: &Profile, text: &str) -> bool {
    text.ends_with(']') || text.contains('-')
}

/// A number; 0 is none.
fn read_interface(text: &str) -> Option<Value> {
    let number = match text.strip_prefix("0x") {
        Some(digits) => u32::from_str_radix(digits, 16).ok()?,
        None => text.parse().ok()?,
    };
    Some(Value::Number(number))
}

fn write_number(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    if let Value::Number(number) = value { Ok(number.to_string()) } else { Err(of_another_kind()) }
}

/// Ways of proving an identity that the daemon has beside those of the hub (swanctl.conf(5), `auth`).
fn is_other_method(_: &Profile, text: &str) -> bool {
    ["any", "eap", "xauth"].iter().any(|start| text.starts_with(start))
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

pub(super) fn read_endpoint(_: &Profile, text: &str) -> Option<Value> {
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

/// The daemon tells kinds by a word before the identity, else by its form (swanctl.conf(5), `id`).
pub(super) fn read_identity(text: &str) -> Option<Identity> {
    if let Ok(address) = text.parse() {
        return Some(Identity::Address(address));
    }
    if text == "%any" {
        return Some(Identity::Anybody);
    }
    if let Some(name) = text.strip_prefix('@') {
        return match name.strip_prefix(['@', '#']) {
            Some(mail) if name.starts_with('@') => Some(Identity::Mail(mail.to_owned())),
            // Bytes that are no text.
            Some(_) => None,
            None => Some(Identity::Name(name.to_owned())),
        };
    }
    Some(match text.split_once(':') {
        Some(("fqdn" | "dns", name)) => Identity::Name(name.to_owned()),
        Some(("rfc822" | "email" | "userfqdn", name)) => Identity::Mail(name.to_owned()),
        Some(("keyid", name)) => Identity::Free(name.to_owned()),
        Some(("ipv4" | "ipv6", address)) => Identity::Address(address.parse().ok()?),
        Some(("asn1dn", name)) => Identity::Subject(Subject::read(name)?),
        Some(_) => return None,
        None if text.contains('=') => Identity::Subject(Subject::read(text)?),
        None if text.contains('@') => Identity::Mail(text.to_owned()),
        // A network or a range of addresses.
        None if text.contains('/') || text.split_once('-').is_some_and(|(from, _)| from.parse::<std::net::IpAddr>().is_ok()) => {
            return None;
        }
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
    proposal::read(profile, text, protocol).map(Value::Proposals)
}

fn write_selector(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Selectors(list) = value else { return Err(of_another_kind()) };
    let Selector { net, protocol, port } = list.first().ok_or_else(of_another_kind)?;
    let net = net.map_or_else(|| "dynamic".to_owned(), address_text::prefix);
    Ok(match (protocol, port) {
        (Some(protocol), Some(port)) => format!("{net}[{protocol}/{port}]"),
        (Some(protocol), None) => format!("{net}[{protocol}]"),
        (None, _) => net,
    })
}

/// A prefix or the end itself, and the protocol in brackets that it is limited to.
fn read_selector(text: &str) -> Option<Value> {
    let (net, limited) = match text.split_once('[') {
        Some((net, limited)) => (net, Some(limited.strip_suffix(']')?)),
        None => (text, None),
    };
    let net = if net == "dynamic" { None } else { Some(prefix(net)?) };
    let (protocol, port) = match limited {
        Some(limited) => {
            let (name, port) = limited.split_once('/').unwrap_or((limited, "any"));
            (Some(ip_protocol(name)?), ip_port(port)?)
        }
        None => (None, None),
    };
    Some(Value::Selectors(vec![Selector { net, protocol, port }]))
}

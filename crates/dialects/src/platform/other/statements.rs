//! The parameters of a list, each with the trade's word and its value in the names of the IANA registries, in the order in which they
//! are written.

use crate::dialect::Unwritable;
use crate::profile::Profile;
use crate::profile::statement::{About, Codec, Field, ProtocolPort, Section, Selector, Spelling, Statement, Value, of_another_kind, words};
use crate::text::prefix;
use uspan_model::address_text;
use uspan_model::algorithm::{Kind, Transform, UsualSpelling};
use uspan_model::duration::usual_duration;
use uspan_model::gateway::{
    Dscp, Encapsulation, Endpoint, Identity, IkeVersion, Method, Mode, OnDeadPeer, Opening, Proposal, Protocol, ip_protocol,
};
use uspan_model::subject::Subject;

/// What stands between several proposals.
const OR: &str = " | ";

const ENDPOINTS: Codec = Codec::Own(Spelling { write: write_endpoint, read: |_, text| read_endpoint(text) });
const IDENTITIES: Codec = Codec::Own(Spelling { write: write_identity, read: |_, text| read_identity(text).map(Value::Identity) });
const IKE: Codec = Codec::Own(Spelling { write: write_proposals, read: |_, text| read_proposals(text, Protocol::Ike) });
const ESP: Codec = Codec::Own(Spelling { write: write_proposals, read: |_, text| read_proposals(text, Protocol::Esp) });
const LIVES: Codec = Codec::Own(Spelling { write: write_life, read: |_, text| usual_duration(text).map(Value::Time) });
const NETWORKS: Codec = Codec::Own(Spelling { write: write_networks, read: |_, text| read_networks(text) });
const PROTOCOLS: Codec = Codec::Own(Spelling { write: write_protocol, read: |_, text| read_protocol(text) });
const PACKETS: Codec = Codec::Own(Spelling { write: write_packets, read: |_, text| read_packets(text) });

/// All rows.
#[rustfmt::skip]
pub(super) fn statements() -> Vec<Statement> {
    use Section::{Child, Connection};
    let row = Statement::new;
    vec![
        row(Connection, "local gateway", Field::LocalAddress, ENDPOINTS).about(About::Addresses),
        row(Connection, "remote gateway", Field::RemoteAddress, ENDPOINTS),
        row(Connection, "local identity", Field::LocalIdentity, IDENTITIES).about(About::Identities),
        row(Connection, "remote identity", Field::RemoteIdentity, IDENTITIES),
        row(Connection, "authentication", Field::LocalMethod, words([
            ("pre-shared key", Value::Method(Method::SharedSecret)),
            ("raw public keys (RFC 7427)", Value::Method(Method::PublicKey)),
            ("certificates", Value::Method(Method::Certificate)),
        ])),
        row(Connection, "IKE version", Field::Version, words([("IKEv2", Value::Version(IkeVersion::V2)), ("IKEv1", Value::Version(IkeVersion::V1))])),
        row(Connection, "aggressive mode", Field::Aggressive, Codec::Flag).or("no").unless_default().spares("IKEv2 has no aggressive mode"),
        row(Connection, "IKE SA (phase 1)", Field::IkeProposals, IKE).about(About::Ike),
        row(Connection, "IKE SA lives", Field::IkeHardLife, LIVES).about(About::IkeLifetime),
        row(Connection, "IKE SA is replaced after", Field::IkeSoftLife, LIVES),
        row(Connection, "NAT traversal", Field::Encapsulation, words([
            ("where a NAT device is found", Value::Encapsulation(Encapsulation::Automatic)),
            ("always", Value::Encapsulation(Encapsulation::Forced)),
            ("never", Value::Encapsulation(Encapsulation::Off)),
        ])),
        row(Connection, "dead peer detection", Field::Liveness, LIVES).about(About::Liveness),
        row(Connection, "tries to reach the peer", Field::Tries, words([("without end", Value::Number(0)), ("once", Value::Number(1))])),
        row(Connection, "number of the tunnel interface", Field::InterfaceOut, Codec::Number),
        row(Child, "local networks", Field::LocalSelectors, NETWORKS).about(About::Selectors),
        row(Child, "remote networks", Field::RemoteSelectors, NETWORKS),
        row(Child, "local IP protocol and port", Field::LocalProtocol, PROTOCOLS),
        row(Child, "remote IP protocol and port", Field::RemoteProtocol, PROTOCOLS),
        row(Child, "mode", Field::Mode, words([("tunnel mode", Value::Mode(Mode::Tunnel)), ("transport mode", Value::Mode(Mode::Transport))])),
        row(Child, "ESP (phase 2), with the group for PFS", Field::EspProposals, ESP).about(About::Esp),
        row(Child, "ESP SA lives", Field::EspHardLife, LIVES).about(About::EspLifetime),
        row(Child, "ESP SA is replaced after", Field::EspSoftLife, LIVES),
        row(Child, "opened", Field::Opening, words([
            ("by this gateway, at once and on traffic", Value::Opening(Opening::BOTH)),
            ("by this gateway, at once", Value::Opening(Opening::START)),
            ("by this gateway, on traffic", Value::Opening(Opening::TRAP)),
            ("by the other one", Value::Opening(Opening::WAIT)),
        ])).about(About::Opening),
        row(Child, "when the peer is dead", Field::OnDeadPeer, words([
            ("it is opened again", Value::OnDeadPeer(OnDeadPeer::Reopen)),
            ("traffic opens it again", Value::OnDeadPeer(OnDeadPeer::AwaitTraffic)),
            ("the other one opens it again", Value::OnDeadPeer(OnDeadPeer::Forget)),
        ])),
        row(Child, "replay window", Field::ReplayWindow, PACKETS),
        row(Child, "DSCP", Field::Dscp, words([
            ("copied outwards", Value::Dscp(Dscp::Outwards)),
            ("copied both ways", Value::Dscp(Dscp::Both)),
            ("not copied", Value::Dscp(Dscp::Never)),
        ])),
    ]
}

/// A word for an end that may be anywhere.
const ANYWHERE: &str = "any address";

fn write_endpoint(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Endpoint(end) = value else { return Err(of_another_kind()) };
    Ok(address_text::endpoint(end, ANYWHERE))
}

fn read_endpoint(text: &str) -> Option<Value> {
    let one = |text: &str| match text {
        ANYWHERE => Some(Endpoint::Anywhere),
        net if net.contains('/') => net.parse().ok().map(Endpoint::Within),
        one => Endpoint::read(one),
    };
    let mut several: Vec<_> = text.split(',').map(str::trim).map(one).collect::<Option<_>>()?;
    Some(Value::Endpoint(if several.len() == 1 { several.remove(0) } else { Endpoint::OneOf(several) }))
}

/// Kinds of identities as RFC 7296 section 3.5 calls them.
fn write_identity(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Identity(identity) = value else { return Err(of_another_kind()) };
    let kind = match identity {
        Identity::Address(address) if address.is_ipv4() => "ID_IPV4_ADDR",
        Identity::Address(_) => "ID_IPV6_ADDR",
        Identity::Name(_) => "ID_FQDN",
        Identity::Mail(_) => "ID_RFC822_ADDR",
        Identity::Free(_) => "ID_KEY_ID",
        Identity::Subject(_) => "ID_DER_ASN1_DN",
        Identity::Anybody | Identity::Implied(_) => return Err(vec![Unwritable::no_identity()]),
    };
    Ok(format!("{kind} {identity}"))
}

fn read_identity(text: &str) -> Option<Identity> {
    let (kind, name) = text.split_once(' ')?;
    let name = name.trim();
    Some(match kind {
        "ID_IPV4_ADDR" | "ID_IPV6_ADDR" => Identity::Address(name.parse().ok()?),
        "ID_FQDN" => Identity::Name(name.to_owned()),
        "ID_RFC822_ADDR" => Identity::Mail(name.to_owned()),
        "ID_KEY_ID" => Identity::Free(name.to_owned()),
        "ID_DER_ASN1_DN" => Identity::Subject(Subject::read(name)?),
        _ => return None,
    })
}

/// Names and numbers of the IANA registry, with `or` between alternatives and `;` between kinds.
fn write_proposals(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Proposals(list) = value else { return Err(of_another_kind()) };
    let mut texts = Vec::new();
    for proposal in list {
        if proposal.protocol == Protocol::Ah {
            return Err(vec![Unwritable::new("AH, which a list of parameters has no word for", "Use ESP.")]);
        }
        let kinds = [Kind::Encryption, Kind::Integrity, Kind::Prf, Kind::KeyExchange, Kind::SequenceNumbers];
        let mut parts = Vec::new();
        for kind in kinds {
            let all: Vec<String> = proposal.of(kind).iter().map(|one| registered(*one)).collect();
            // Sequence numbers of 32 bits are what everybody has.
            let is_usual = kind == Kind::SequenceNumbers && proposal.of(kind) == [Transform::sequence_numbers(false)];
            if !all.is_empty() && !is_usual {
                parts.push(all.join(" or "));
            }
        }
        texts.push(parts.join("; "));
    }
    Ok(texts.join(OR))
}

/// The name of a transform in its registry, with its number and the length of its key.
fn registered(transform: Transform) -> String {
    match (transform.kind, transform.number) {
        (Kind::SequenceNumbers, 0) => return SHORT.to_owned(),
        (Kind::SequenceNumbers, _) => return LONG.to_owned(),
        _ => {}
    }
    let name = transform.row().map_or_else(|| transform.to_string(), |row| row.iana.to_owned());
    match transform.key_bits {
        0 => format!("{name} ({})", transform.number),
        bits => format!("{name} ({}), {bits} bits", transform.number),
    }
}

/// Sequence numbers by their lengths (RFC 4303 section 2.2.1).
const SHORT: &str = "32-bit sequence numbers";
const LONG: &str = "64-bit sequence numbers";

fn read_proposals(text: &str, protocol: Protocol) -> Option<Value> {
    text.split(OR.trim()).map(|one| read_proposal(one.trim(), protocol)).collect::<Option<_>>().map(Value::Proposals)
}

/// One proposal, in these words or in others of the trade. In IKE a hash alone is the PRF as well.
fn read_proposal(text: &str, protocol: Protocol) -> Option<Proposal> {
    let (numbers, rest): (Vec<&str>, Vec<&str>) = text.split(';').map(str::trim).partition(|part| part.contains("sequence numbers"));
    let read = UsualSpelling::read(&rest.join("; ")).ok()?;
    if read.ciphers.is_empty() {
        return None;
    }
    let combined = read.ciphers.iter().all(|cipher| cipher.is_aead());
    let prfs: Vec<Transform> = match (protocol, read.prfs.is_empty()) {
        (Protocol::Ike, true) => read.hashes.iter().filter_map(|hash| hash.prf_of_hash()).collect(),
        (Protocol::Ike, false) => read.prfs.clone(),
        _ => Vec::new(),
    };
    let integrities = if combined { Vec::new() } else { read.hashes.clone() };
    let mut lengths = Vec::new();
    for part in numbers.iter().flat_map(|part| part.split(" or ")) {
        lengths.push(Transform::sequence_numbers(match part.trim() {
            SHORT => false,
            LONG => true,
            _ => return None,
        }));
    }
    if protocol != Protocol::Ike && lengths.is_empty() {
        lengths.push(Transform::sequence_numbers(false));
    }
    let all = [read.ciphers, integrities, prfs, read.groups, lengths].concat();
    Some(Proposal::new(protocol, all))
}

fn write_life(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Time(life) = value else { return Err(of_another_kind()) };
    if life.subsec_nanos() > 0 {
        return Err(of_another_kind());
    }
    Ok(format!("{} seconds", life.as_secs()))
}

fn write_networks(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Selectors(list) = value else { return Err(of_another_kind()) };
    Ok(list.iter().filter_map(|selector| selector.net).map(address_text::prefix).collect::<Vec<_>>().join(", "))
}

fn read_networks(text: &str) -> Option<Value> {
    let nets = text.split(',').map(|net| prefix(net.trim()));
    let selector = |net| Selector { net: Some(net), protocol: None, port: None };
    nets.map(|net| net.map(selector)).collect::<Option<Vec<_>>>().map(Value::Selectors)
}

fn write_protocol(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    match value {
        Value::ProtocolPort(ProtocolPort { protocol, port: None }) => Ok(protocol.to_string()),
        Value::ProtocolPort(ProtocolPort { protocol, port: Some(port) }) => Ok(format!("{protocol}/{port}")),
        _ => Err(of_another_kind()),
    }
}

fn read_protocol(text: &str) -> Option<Value> {
    let (protocol, port) = match text.split_once('/') {
        Some((protocol, port)) => (protocol, Some(port.parse().ok()?)),
        None => (text, None),
    };
    ip_protocol(protocol).map(|protocol| Value::ProtocolPort(ProtocolPort { protocol, port }))
}

fn write_packets(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Number(packets) = value else { return Err(of_another_kind()) };
    Ok(format!("{packets} packets"))
}

fn read_packets(text: &str) -> Option<Value> {
    text.trim_end_matches("packets").trim().parse().ok().map(Value::Number)
}

//! The statements of ipsec.conf(5) of the starter of 5.9.8 (its keyword table). None is written.

use std::time::Duration;

use super::super::proposal;
use super::super::statements::{read_endpoint, read_identity, read_method};
use crate::dialect::Unwritable;
use crate::profile::Profile;
use crate::profile::statement::{Admits, Codec, Field, ProtocolPort, Section, Selector, Spelling, Statement, Value, words};
use crate::text::{ip_port, prefix};
use uspan_model::algorithm::Transform;
use uspan_model::gateway::{
    Bearing, Encapsulation, Endpoint, IkeVersion, Method, Mode, OnDeadPeer, Opening, Proposal, Protocol, ip_protocol,
};

/// Values that are read, and never written.
const fn reads(read: fn(&Profile, &str) -> Option<Value>) -> Codec {
    Codec::Own(Spelling { write: |_, _| Err(vec![Unwritable::new("a file that is read only", "Write for `strongswan`.")]), read })
}

const TEXTS: Codec = reads(|_, text| Some(Value::Text(text.to_owned())));
const ENDPOINTS: Codec = reads(endpoint);
const IDENTITIES: Codec = reads(|_, text| read_identity(text).map(Value::Identity));
const METHODS: Codec = reads(|_, text| if text == "secret" { read_method("psk") } else { read_method(text) });
const IKE: Codec = reads(|profile, text| proposals(profile, text, Protocol::Ike));
const ESP: Codec = reads(|profile, text| proposals(profile, text, Protocol::Esp));
const AH: Codec = reads(|profile, text| proposals(profile, text, Protocol::Ah));
const NETWORKS: Codec = reads(|_, text| networks(text));
const PROTOCOL: Codec = reads(|_, text| protocol(text).map(Value::ProtocolPort));
const TRIES: Codec = reads(|_, text| if text == "%forever" { Some(Value::Number(0)) } else { text.parse().ok().map(Value::Number) });

/// -1 is what the daemon has as a whole (strongswan.conf(5), `charon.replay_window`).
const WINDOWS: Codec = reads(|_, text| if text == "-1" { Some(Value::Number(32)) } else { text.parse().ok().map(Value::Number) });

const YES: &[&str] = &["yes", "no"];

fn flags() -> Codec {
    words([("yes", Value::Flag(true)), ("no", Value::Flag(false))])
}

/// Why some of what the daemon knows decides nothing.
const AROUND: &str = "what happens beside the SAs, not whether they come up or what they carry";
const OFFERED: &str = "it is offered, and does not have to be taken";
const OF_LIMITS: &str = "SAs are replaced earlier, or in another way";
const OF_OTHERS: &str = "it is for ways of proving an identity that other settings choose";
const PASSED_OVER: &str = "the daemon passes it over, with a note in its log";

/// All rows.
// Long: a list.
#[rustfmt::skip]
pub(super) fn statements() -> Vec<Statement> {
    use Section::{Child, Connection, Daemon};
    let row = |section, keyword, field, codec| Statement::new(section, keyword, field, codec).unwritten();
    let mut rows = vec![
        row(Connection, "keyexchange", Field::Version, words([
            ("ike", Value::Version(IkeVersion::V2)), ("ikev2", Value::Version(IkeVersion::V2)), ("ikev1", Value::Version(IkeVersion::V1)),
        ])).or("ike").admitting(Admits::Exactly(&["ike", "ikev1", "ikev2"])),
        row(Connection, "authby", Field::Proofs, words([
            ("psk", Value::Method(Method::SharedSecret)), ("secret", Value::Method(Method::SharedSecret)),
            ("pubkey", Value::Method(Method::Certificate)), ("rsa", Value::Method(Method::Certificate)), ("rsasig", Value::Method(Method::Certificate)),
            ("ecdsa", Value::Method(Method::Certificate)), ("ecdsasig", Value::Method(Method::Certificate)),
        ])).admitting(Admits::Exactly(&["psk", "secret", "pubkey", "rsa", "rsasig", "ecdsa", "ecdsasig", "xauthpsk", "xauthrsasig", "never"])).beside(|_, _| true),
        row(Connection, "leftauth", Field::LocalMethod, METHODS).beside(|_, _| true),
        row(Connection, "rightauth", Field::RemoteMethod, METHODS).beside(|_, _| true),
        row(Connection, "aggressive", Field::Aggressive, flags()).or("no").admitting(Admits::Exactly(YES)).spares("IKEv2 has no aggressive mode"),
        row(Connection, "left", Field::LocalAddress, ENDPOINTS).or("%any").beside(|_, _| true),
        row(Connection, "right", Field::RemoteAddress, ENDPOINTS).or("%any").beside(|_, _| true),
        row(Connection, "forceencaps", Field::Encapsulation, words([
            ("yes", Value::Encapsulation(Encapsulation::Forced)), ("no", Value::Encapsulation(Encapsulation::Automatic)),
        ])).or("no").admitting(Admits::Exactly(YES)),
        row(Connection, "leftid", Field::LocalIdentity, IDENTITIES).beside(|_, _| true),
        row(Connection, "rightid", Field::RemoteIdentity, IDENTITIES).beside(|_, _| true),
        row(Connection, "leftcert", Field::LocalCertificate, TEXTS).spares("with a shared secret it is not used"),
        row(Connection, "rightcert", Field::RemoteCertificate, TEXTS).spares("with a shared secret it is not used"),
        row(Connection, "leftsigkey", Field::LocalKey, TEXTS).spares("with a shared secret it is not used"),
        row(Connection, "rightsigkey", Field::RemoteKey, TEXTS).spares("with a shared secret it is not used"),
        row(Connection, "ike", Field::IkeProposals, IKE).or_derived(|profile, record| Some(Value::Proposals(profile.offers.ike(record.value(Field::Version)?)))).beside(outside),
        row(Connection, "ikelifetime", Field::IkeHardLife, Codec::Time).or("3h"),
        row(Connection, "margintime", Field::IkeMargin, Codec::Time).or("9m"),
        row(Connection, "dpddelay", Field::Liveness, Codec::Time).or("30s"),
        row(Connection, "dpdtimeout", Field::Patience, Codec::Time).or("150s").spares("in IKEv2, which retransmits instead, it is not used"),
        row(Connection, "keyingtries", Field::Tries, TRIES).or("3").spares("once or several times is the same to the hub: it gives up"),
        row(Child, "leftsubnet", Field::LocalSelectors, NETWORKS).or("%dynamic").beside(|_, _| true),
        row(Child, "rightsubnet", Field::RemoteSelectors, NETWORKS).or("%dynamic").beside(|_, _| true),
        row(Child, "leftprotoport", Field::LocalProtocol, PROTOCOL).spares("`%any` is as where nothing is said").beside(|_, text| text.contains("%opaque") || text.contains('-')),
        row(Child, "rightprotoport", Field::RemoteProtocol, PROTOCOL).spares("`%any` is as where nothing is said").beside(|_, text| text.contains("%opaque") || text.contains('-')),
        row(Child, "esp", Field::EspProposals, ESP).or_derived(|profile, _| Some(Value::Proposals(profile.offers.esp(IkeVersion::V2)))).beside(outside),
        row(Child, "ah", Field::AhProposals, AH).beside(outside),
        row(Child, "type", Field::Mode, words([("tunnel", Value::Mode(Mode::Tunnel)), ("transport", Value::Mode(Mode::Transport))])).or("tunnel")
            .admitting(Admits::Exactly(&["tunnel", "transport", "beet", "transport_proxy", "passthrough", "pass", "drop", "reject"])).beside(|_, _| true),
        row(Child, "lifetime", Field::EspHardLife, Codec::Time).or("1h"),
        row(Child, "auto", Field::Opening, words([
            ("ignore", Value::Opening(Opening::WAIT)), ("add", Value::Opening(Opening::WAIT)),
            ("route", Value::Opening(Opening::TRAP)), ("start", Value::Opening(Opening::START)),
        ])).or("ignore").admitting(Admits::Exactly(&["ignore", "add", "route", "start"])),
        row(Child, "dpdaction", Field::OnDeadPeer, words([
            ("none", Value::OnDeadPeer(OnDeadPeer::Forget)), ("clear", Value::OnDeadPeer(OnDeadPeer::Forget)),
            ("hold", Value::OnDeadPeer(OnDeadPeer::AwaitTraffic)), ("restart", Value::OnDeadPeer(OnDeadPeer::Reopen)),
        ])).or("none").admitting(Admits::Exactly(&["none", "clear", "hold", "restart"])),
        row(Child, "replay_window", Field::ReplayWindow, WINDOWS).or("-1"),
        // What has no field: who may be believed,
        Statement::bearing(Connection, "rightca", ["%any"], Bearing::Authentication),
        Statement::aside(Connection, "leftca", ["%any"], "which certificates the peer is asked for"),
        // A peer may have it from elsewhere then.
        Statement::bearing(Connection, "leftsendcert", ["always", "ifasked", "yes"], Bearing::Authentication).admitting(Admits::Exactly(SENT)),
        Statement::aside(Connection, "rightsendcert", ["always", "ifasked", "yes"], "whether the peer is asked for a certificate").admitting(Admits::Exactly(SENT)),
        // what carries it,
        row(Connection, "leftikeport", Field::OwnPort, Codec::Number).or("500").admitting(WHOLE),
        row(Connection, "rightikeport", Field::PeerPort, Codec::Number).or("500").admitting(WHOLE),
        Statement::bearing(Child, "sha256_96", ["no"], Bearing::ChildSa).admitting(Admits::Exactly(YES)),
        Statement::bearing(Child, "installpolicy", ["yes"], Bearing::ChildSa).admitting(Admits::Exactly(YES)),
        // and whom another daemon helps to find.
        Statement::only(Connection, "mediation", ["no"]).admitting(Admits::Exactly(YES)),
        Statement::only(Connection, "mediated_by", []),
        Statement::only(Connection, "me_peerid", []),
        Statement::idle(Connection, "fragmentation", "messages in pieces are offered, and do not have to be taken").admitting(Admits::Exactly(&["no", "accept", "yes", "force"])),
        Statement::aside(Connection, "closeaction", ["none", "clear"], AROUND).admitting(Admits::Exactly(&["none", "clear", "hold", "restart"])),
        Statement::aside(Connection, "mobike", ["yes"], OFFERED).admitting(Admits::Exactly(YES)),
        Statement::aside(Connection, "compress", ["no"], OFFERED).admitting(Admits::Exactly(YES)),
        Statement::aside(Child, "rekey", ["yes"], OF_LIMITS).admitting(Admits::Exactly(YES)),
        Statement::aside(Child, "reauth", ["yes"], OF_LIMITS).admitting(Admits::Exactly(YES)),
        Statement::aside(Child, "rekeyfuzz", ["100%"], OF_LIMITS).admitting(Admits::Number { words: &[], base: 10, units: &["%"] }),
    ];
    for keyword in ["lifebytes", "marginbytes", "lifepackets", "marginpackets"] {
        rows.push(Statement::aside(Child, keyword, ["0"], OF_LIMITS).admitting(WHOLE));
    }
    rows.push(Statement::aside(Child, "inactivity", ["0"], OF_LIMITS).admitting(TIME));
    for (keyword, admits) in [
        ("reqid", WHOLE), ("mark", Admits::Mark), ("mark_in", Admits::Mark), ("mark_out", Admits::Mark),
        ("tfc", Admits::Number { words: &["%mtu"], base: 10, units: &[""] }), ("ikedscp", Admits::Number { words: &[], base: 2, units: &[""] }),
    ] {
        rows.push(Statement::aside(Connection, keyword, ["0"], AROUND).admitting(admits));
    }
    for (keyword, admits) in [
        ("eap_identity", Admits::Any), ("aaa_identity", Admits::Any), ("xauth_identity", Admits::Any),
        ("xauth", Admits::Exactly(&["server", "client"])), ("modeconfig", Admits::Exactly(&["push", "pull"])),
    ] {
        rows.push(Statement::aside(Connection, keyword, [], OF_OTHERS).admitting(admits));
    }
    for end in ["left", "right"] {
        let own = |keyword: &str| [end, keyword].concat();
        for keyword in ["auth2", "id2", "cert2", "ca2", "groups", "groups2", "certpolicy"] {
            rows.push(Statement::bearing(Connection, "", [], Bearing::Authentication).called(own(keyword)));
        }
        rows.push(Statement::only(Connection, "", []).called(own("sourceip")));
        rows.push(Statement::only(Connection, "", ["no"]).admitting(Admits::Exactly(YES)).called(own("allowany")));
        for keyword in ["updown", "dns"] {
            rows.push(Statement::aside(Connection, "", [], AROUND).called(own(keyword)));
        }
        for keyword in ["firewall", "hostaccess"] {
            rows.push(Statement::aside(Connection, "", ["no"], AROUND).admitting(Admits::Exactly(YES)).called(own(keyword)));
        }
        rows.push(Statement::idle(Connection, "", PASSED_OVER).called(own("nexthop")));
    }
    for keyword in ["pfs", "pfsgroup", "eap"] {
        rows.push(Statement::idle(Connection, keyword, PASSED_OVER));
    }
    // For the whole daemon.
    rows.push(Statement::bearing(Daemon, "strictcrlpolicy", ["no", "ifuri"], Bearing::Authentication).admitting(Admits::Exactly(&["no", "yes", "ifuri"])));
    rows.push(Statement::idle(Daemon, "uniqueids", "what becomes of an older SA with the same peer").admitting(Admits::Exactly(&["no", "yes", "replace", "keep", "never"])));
    rows.push(Statement::idle(Daemon, "cachecrls", "where lists are kept").admitting(Admits::Exactly(YES)));
    rows.push(Statement::idle(Daemon, "charondebug", "what the daemon tells"));
    for keyword in ["interfaces", "dumpdir", "charonstart", "plutostart", "klipsdebug", "plutodebug", "prepluto", "postpluto", "plutostderrlog",
        "fragicmp", "packetdefault", "hidetos", "overridemtu", "crlcheckinterval", "nocrsend", "nat_traversal", "keep_alive", "force_keepalive",
        "virtual_private", "pkcs11module", "pkcs11initargs", "pkcs11keepstate", "pkcs11proxy"] {
        rows.push(Statement::idle(Daemon, keyword, PASSED_OVER));
    }
    rows
}

const WHOLE: Admits = Admits::Number { words: &[], base: 10, units: &[""] };
const TIME: Admits = Admits::Number { words: &[], base: 10, units: &["", "s", "m", "h", "d"] };
const SENT: &[&str] = &["always", "ifasked", "never", "yes", "no"];

/// An end; a name behind a percent sign may be anywhere.
fn endpoint(profile: &Profile, text: &str) -> Option<Value> {
    match text.strip_prefix('%') {
        Some("any" | "any4" | "any6" | "defaultroute") => Some(Value::Endpoint(Endpoint::Anywhere)),
        Some(_) => None,
        None => read_endpoint(profile, text),
    }
}

/// Proposals; unless an exclamation mark closes the list, what the daemon offers by itself is behind them. It takes all of a list or, with
/// one that it does not know, nothing.
fn proposals(profile: &Profile, text: &str, protocol: Protocol) -> Option<Value> {
    let (list, only) = match text.strip_suffix('!') {
        Some(list) => (list, true),
        None => (text, false),
    };
    let each = list.split(',').map(|one| proposal::read(profile, one.trim(), protocol)).collect::<Option<Vec<_>>>()?;
    let mut all: Vec<Proposal> = each.into_iter().flatten().collect();
    if !only {
        all.extend(match protocol {
            Protocol::Ike => profile.offers.ike(IkeVersion::V2),
            Protocol::Esp => profile.offers.esp(IkeVersion::V2),
            Protocol::Ah => {
                let hashes = [12, 13, 14, 2, 5].map(Transform::integrity);
                vec![Proposal::new(protocol, hashes.into_iter().chain([Transform::sequence_numbers(false)]))]
            }
        });
    }
    Some(Value::Proposals(all))
}

/// Whether the daemon knows words of a list that are not understood.
fn outside(profile: &Profile, text: &str) -> bool {
    let list = text.strip_suffix('!').unwrap_or(text);
    let known = |one: &str| [Protocol::Ike, Protocol::Esp, Protocol::Ah].iter().any(|of| proposal::read(profile, one, *of).is_some());
    list.split(',').map(str::trim).all(|one| known(one) || proposal::is_outside(profile, one))
}

/// An IP protocol and a port.
fn protocol(text: &str) -> Option<ProtocolPort> {
    let (name, port) = text.split_once('/').unwrap_or((text, ""));
    let protocol = if name == "%any" { 0 } else { ip_protocol(name)? };
    Some(ProtocolPort { protocol, port: ip_port(port)? })
}

/// Networks, each with the protocol and the port that it is limited to.
fn networks(text: &str) -> Option<Value> {
    let one = |text: &str| {
        let (net, limit) = match text.split_once('[') {
            Some((net, limit)) => (net, Some(protocol(limit.strip_suffix(']')?)?)),
            None => (text, None),
        };
        // Bits behind the prefix do not count.
        let net = if net == "%dynamic" { None } else { Some(prefix(net)?.trunc()) };
        let protocol = limit.map(|limit| limit.protocol).filter(|protocol| *protocol != 0);
        Some(Selector { net, protocol, port: limit.and_then(|limit| limit.port) })
    };
    let items = text.split([',', ' ']).filter(|item| !item.is_empty());
    items.map(one).collect::<Option<Vec<_>>>().map(Value::Selectors)
}

/// Keywords of sections for authorities, which are not read: those of their folder count anyway.
const OF_AUTHORITIES: [&str; 10] =
    ["cacert", "crluri", "crluri1", "crluri2", "ocspuri", "ocspuri1", "ocspuri2", "certuribase", "ldaphost", "ldapbase"];

/// Whether a keyword is one of another section: there it costs the connection, while one that there is not is passed over.
pub(super) fn is_elsewhere(profile: &Profile, keyword: &str) -> bool {
    OF_AUTHORITIES.contains(&keyword) || profile.statements.find(&[Section::Daemon, Section::Connection, Section::Child], keyword).is_some()
}

/// The default margin before an SA is replaced.
pub(super) const MARGIN: Duration = Duration::from_secs(540);

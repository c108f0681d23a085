//! The statements of ipsec.conf(5) of 4.10, in the order in which they are written.

use std::time::Duration;

use super::proposal;
use super::syntax::quote;
use crate::dialect::Unwritable;
use crate::profile::statement::{
    About, Admits, Codec, Field, ProtocolPort, Record, Section, Selector, Spelling, Statement, Value, of_another_kind, words,
};
use crate::profile::{OF_CERTIFICATE, Profile};
use crate::text::{ip_port, prefix};
use uspan_model::address_text;
use uspan_model::gateway::{
    Bearing, Dscp, Encapsulation, Endpoint, Identity, IkeVersion, Method, Mode, OnDeadPeer, Opening, Proposal, Protocol, ip_protocol,
};
use uspan_model::subject::Subject;

const ADDRESSES: [Codec; 2] = [
    Codec::Own(Spelling { write: |_, value| write_endpoint(value, "%defaultroute"), read: |_, text| read_endpoint(text) }),
    Codec::Own(Spelling { write: |_, value| write_endpoint(value, "%any"), read: |_, text| read_endpoint(text) }),
];
const IDENTITIES: Codec = Codec::Own(Spelling { write: write_identity, read: |_, text| identity(text).map(Value::Identity) });
const TEXTS: Codec = Codec::Own(Spelling { write: write_text, read: |_, text| Some(Value::Text(text.to_owned())) });
const IKE: Codec = Codec::Own(Spelling { write: write_proposals, read: |profile, text| read_proposals(profile, text, Protocol::Ike) });
const ESP: Codec = Codec::Own(Spelling { write: write_proposals, read: |profile, text| read_proposals(profile, text, Protocol::Esp) });
const AH: Codec = Codec::Own(Spelling { write: write_proposals, read: |profile, text| read_proposals(profile, text, Protocol::Ah) });
const ONE_NET: Codec = Codec::Own(Spelling { write: write_selector, read: |_, text| Some(selectors([network(text)?])) });
const NETS: Codec = Codec::Own(Spelling { write: write_selector, read: |_, text| read_selectors(text) });
const PROTOCOL: Codec = Codec::Own(Spelling { write: write_protocol, read: |_, text| read_protocol(text) });
const LIVES: Codec = Codec::Own(Spelling { write: write_life, read: |profile, text| Codec::Time.read(profile, text).value });
const TRIES: Codec = Codec::Own(Spelling { write: write_number, read: |_, text| read_tries(text) });
const INTERFACES: Codec = Codec::Own(Spelling { write: write_number, read: |_, text| read_interface(text) });

#[rustfmt::skip]
fn flags() -> Codec {
    words([
        ("yes", Value::Flag(true)), ("no", Value::Flag(false)), ("true", Value::Flag(true)), ("false", Value::Flag(false)),
        ("on", Value::Flag(true)), ("off", Value::Flag(false)), ("y", Value::Flag(true)), ("n", Value::Flag(false)),
    ])
}

/// Why some of what the daemon knows decides nothing.
const AROUND: &str = "what happens beside the SAs, not whether they come up or what they carry";
const DRIVES: &str = "how and when messages are repeated or split, not what they say";
const OFFERED: &str = "it is offered, and does not have to be taken";
const OF_LIMITS: &str = "SAs are replaced earlier, or in another way";

/// All rows.
// Long: a list.
#[rustfmt::skip]
pub(super) fn statements() -> Vec<Statement> {
    use Section::{Child, Connection, Daemon};
    let (row, idle) = (Statement::new, Statement::idle);
    let [left, right] = ADDRESSES;
    let mut rows = vec![
        idle(Connection, "also", "the syntax takes the section over"),
        idle(Connection, "alsoflip", "the syntax takes the section over, with its ends exchanged"),
        row(Connection, "ikev2", Field::Version, words([
            ("insist", Value::Version(IkeVersion::V2)), ("yes", Value::Version(IkeVersion::V2)),
            ("no", Value::Version(IkeVersion::V1)), ("never", Value::Version(IkeVersion::V1)),
        ])).or("insist").beside(|_, text| ["permit", "propose", "always"].contains(&text)),
        Statement::bearing(Connection, "keyexchange", ["ike"], Bearing::Refused),
        row(Connection, "authby", Field::Proofs, TEXTS),
        row(Connection, "aggressive", Field::Aggressive, flags()).or("no").unless_default().spares("IKEv2 has no aggressive mode"),
        row(Connection, "left", Field::LocalAddress, left).about(About::Addresses).beside(|_, text| text.starts_with('%')),
        row(Connection, "right", Field::RemoteAddress, right).beside(|_, text| text.starts_with('%')),
        row(Connection, "ipsec-interface", Field::InterfaceOut, INTERFACES).or("no").unless_default().about(About::Routes)
            // That is an interface of another number.
            .beside(|_, text| text == "0"),
        // The interface and its routes are there already; the daemon's script would set its own.
        row(Connection, "leftupdown", Field::NoScript, words([("\"\"", Value::Flag(true))])).aside_else()
            .spares("no script is what the hub has; another one is kept to be told"),
        row(Connection, "encapsulation", Field::Encapsulation, words([
            ("auto", Value::Encapsulation(Encapsulation::Automatic)), ("yes", Value::Encapsulation(Encapsulation::Forced)),
            ("no", Value::Encapsulation(Encapsulation::Off)),
        ])).or("auto").unless_default(),
        row(Connection, "leftid", Field::LocalIdentity, IDENTITIES).about(About::Identities).beside(is_other_identity),
        row(Connection, "rightid", Field::RemoteIdentity, IDENTITIES).beside(is_other_identity),
        row(Connection, "leftcert", Field::LocalCertificate, TEXTS).about(About::Secret)
            .spares("with a shared secret it is not used; else another name is told"),
        row(Connection, "rightcert", Field::RemoteCertificate, TEXTS).spares("which key of the daemon's database is the peer's"),
        row(Connection, "leftrsasigkey", Field::LocalKey, TEXTS).spares("with a shared secret it is not used"),
        row(Connection, "rightrsasigkey", Field::RemoteKey, TEXTS).spares("with a shared secret it is not used"),
        row(Connection, "leftauth", Field::LocalMethod, one_method()).spares("the same as `authby` where that says it").beside(|_, text| ["never", "null", "eaponly"].contains(&text)),
        row(Connection, "rightauth", Field::RemoteMethod, one_method()).spares("the same as `authby` where that says it").beside(|_, text| ["never", "null", "eaponly"].contains(&text)),
        row(Connection, "ike", Field::IkeProposals, IKE).or_derived(default_ike).about(About::Ike),
        row(Connection, "ikelifetime", Field::IkeHardLife, LIVES).or("8h").about(About::IkeLifetime),
        row(Connection, "rekeymargin", Field::IkeMargin, Codec::Time).or("9m"),
        // In IKEv2 the interval alone switches the check on (4.10 warns about a timeout beside it).
        row(Connection, "dpddelay", Field::Liveness, Codec::Time).or("0s").unless_default().about(About::Liveness),
        row(Connection, "dpdtimeout", Field::Patience, Codec::Time).spares("in IKEv2 a timeout beside the interval is ignored"),
        row(Connection, "keyingtries", Field::Tries, TRIES).or("%forever").unless_default()
            .spares("once or several times is the same to the hub: it gives up"),
        row(Child, "leftsubnet", Field::LocalSelectors, ONE_NET).about(About::Selectors).beside(is_virtual),
        row(Child, "rightsubnet", Field::RemoteSelectors, ONE_NET).beside(is_virtual),
        row(Child, "leftsubnets", Field::LocalSelectorsEach, NETS).unwritten(),
        row(Child, "rightsubnets", Field::RemoteSelectorsEach, NETS).unwritten(),
        row(Child, "leftprotoport", Field::LocalProtocol, PROTOCOL).spares("0 is as the other end says")
            .beside(|_, text| text.contains('/')),
        row(Child, "rightprotoport", Field::RemoteProtocol, PROTOCOL).spares("0 is as the other end says")
            .beside(|_, text| text.contains('/')),
        row(Child, "phase2", Field::SaProtocol, words([
            ("esp", Value::Protocol(Protocol::Esp)), ("ah", Value::Protocol(Protocol::Ah)),
        ])).or("esp").unless_default(),
        row(Child, "esp", Field::EspProposals, ESP).or_derived(default_esp).about(About::Esp),
        row(Child, "ah", Field::AhProposals, AH),
        row(Child, "pfs", Field::Pfs, flags()).or("yes"),
        row(Child, "esn", Field::SequenceNumbers, words([
            ("no", Value::Number(32)), ("yes", Value::Number(64)), ("either", Value::Number(0)),
        ])).or("either").spares("in IKEv1 they have 32 bits, whatever is said"),
        row(Child, "narrowing", Field::Narrowing, flags()),
        row(Child, "type", Field::Mode, words([
            ("tunnel", Value::Mode(Mode::Tunnel)), ("transport", Value::Mode(Mode::Transport)),
        ])).or("tunnel").beside(|_, text| ["passthrough", "reject", "drop"].contains(&text)),
        row(Child, "salifetime", Field::EspHardLife, LIVES).or("8h").about(About::EspLifetime),
        row(Child, "auto", Field::Opening, words([
            ("start", Value::Opening(Opening::START)), ("up", Value::Opening(Opening::START)),
            ("ondemand", Value::Opening(Opening::TRAP)), ("route", Value::Opening(Opening::TRAP)),
            ("add", Value::Opening(Opening::WAIT)), ("keep", Value::Opening(Opening::WAIT)),
        ])).or("add").about(About::Opening)
            .cannot("opening at once with a trap beside it, of which Libreswan has one or the other", "Let it open at once, or on traffic."),
        row(Child, "dpdaction", Field::OnDeadPeer, words([
            ("restart", Value::OnDeadPeer(OnDeadPeer::Reopen)), ("restart_by_peer", Value::OnDeadPeer(OnDeadPeer::Reopen)), ("hold", Value::OnDeadPeer(OnDeadPeer::AwaitTraffic)),
            ("clear", Value::OnDeadPeer(OnDeadPeer::Forget)),
        ])),
        row(Child, "decap-dscp", Field::Dscp, words([
            ("no", Value::Dscp(Dscp::Outwards)), ("yes", Value::Dscp(Dscp::Both)),
        ])).or("no").unless_default().cannot("a DSCP that is not copied outwards, which Libreswan cannot say", "Let it be copied."),
        row(Child, "replay-window", Field::ReplayWindow, Codec::Number).or("128"),
        // What has no field: who may be believed,
        row(Connection, "leftsendcert", Field::GivesCertificate, words([
            ("sendifasked", Value::Flag(true)), ("always", Value::Flag(true)), ("alwayssend", Value::Flag(true)), ("never", Value::Flag(false)),
        ])).or("sendifasked").unwritten().spares("with a shared secret it is not used"),
        Statement::bearing(Connection, "rightsendcert", ["always", "alwayssend", "sendifasked", "never"], Bearing::Authentication),
        Statement::bearing(Connection, "leftpubkey", ["%cert"], Bearing::Authentication),
        Statement::bearing(Connection, "rightpubkey", ["%cert"], Bearing::Authentication),
        Statement::bearing(Connection, "leftecdsakey", ["%cert"], Bearing::Authentication),
        Statement::bearing(Connection, "rightecdsakey", ["%cert"], Bearing::Authentication),
        Statement::bearing(Connection, "leftckaid", [], Bearing::Authentication),
        Statement::bearing(Connection, "rightckaid", [], Bearing::Authentication),
        Statement::bearing(Connection, "leftca", ["%any"], Bearing::Authentication),
        Statement::bearing(Connection, "rightca", ["%any"], Bearing::Authentication),
        row(Connection, "require-id-on-certificate", Field::NamesPeer, flags()).or("yes").unwritten(),
        Statement::bearing(Connection, "ppk", ["no", "never", "yes", "permit", "propose"], Bearing::Authentication),
        // who is let in from a distance,
        Statement::only(Connection, "leftautheap", ["none"]),
        Statement::only(Connection, "rightautheap", ["none"]),
        Statement::only(Connection, "leftxauthserver", ["no"]),
        Statement::only(Connection, "rightxauthserver", ["no"]),
        Statement::only(Connection, "leftxauthclient", ["no"]),
        Statement::only(Connection, "rightxauthclient", ["no"]),
        Statement::only(Connection, "leftmodecfgserver", ["no"]),
        Statement::only(Connection, "rightmodecfgserver", ["no"]),
        Statement::only(Connection, "leftmodecfgclient", ["no"]),
        Statement::only(Connection, "rightmodecfgclient", ["no"]),
        Statement::only(Connection, "leftaddresspool", []),
        Statement::only(Connection, "rightaddresspool", []),
        Statement::only(Connection, "leftcat", ["no"]),
        Statement::only(Connection, "rightcat", ["no"]),
        Statement::only(Connection, "pam-authorize", ["no"]),
        Statement::only(Connection, "remote-peer-type", [""]),
        Statement::only(Connection, "policy-label", []),
        // what carries it,
        Statement::only(Connection, "enable-tcp", ["no"]),
        row(Connection, "leftikeport", Field::OwnPort, Codec::Number).or("500").unwritten(),
        row(Connection, "rightikeport", Field::PeerPort, Codec::Number).or("500").unwritten(),
        Statement::bearing(Child, "sha2-truncbug", ["no"], Bearing::ChildSa),
        Statement::only(Connection, "accept-redirect", ["no"]),
        Statement::only(Connection, "send-redirect", ["no", "auto"]),
    ];
    for keyword in ["leftusername", "rightusername", "xauthby", "xauthfail", "modecfgpull", "modecfgdns", "modecfgdomains", "modecfgbanner"] {
        rows.push(Statement::aside(Connection, keyword, [], "it concerns hosts that are let in from a distance, which other settings switch on"));
    }
    for keyword in ["leftnexthop", "rightnexthop", "leftsourceip", "rightsourceip", "leftvti", "rightvti", "rightupdown",
        "vti-interface", "vti-routing", "vti-shared", "mark", "mark-in", "mark-out", "metric", "mtu", "priority", "reqid", "nflog", "nic-offload",
        "overlapip", "failureshunt", "negotiationshunt", "redirect-to", "accept-redirect-to", "tcp-remoteport", "sendca", "ignore-peer-dns"] {
        rows.push(Statement::aside(Connection, keyword, [], AROUND));
    }
    for (keyword, default) in [("mobike", "no"), ("compress", "no"), ("ms-dh-downgrade", "no"), ("nopmtudisc", "no"), ("tfc", "0"), ("intermediate", "no")] {
        rows.push(Statement::aside(Connection, keyword, [default], OFFERED));
    }
    for (keyword, default) in [("rekey", "yes"), ("rekeyfuzz", "100%"), ("reauth", "no"), ("ipsec-max-bytes", "%forever"), ("ipsec-max-packets", "%forever")] {
        rows.push(Statement::aside(Child, keyword, [default], OF_LIMITS));
    }
    for keyword in ["fragmentation", "retransmit-timeout", "retransmit-interval", "ikepad", "nat-ikev1-method", "nat-keepalive", "initial-contact",
        "send-vendorid", "fake-strongswan", "send-no-esp-tfc"] {
        rows.push(idle(Connection, keyword, DRIVES));
    }
    for keyword in ["hostaddrfamily", "clientaddrfamily"] {
        rows.push(idle(Connection, keyword, "addresses tell their family"));
    }
    for keyword in ["nm-configured", "plutodebug", "connalias"] {
        rows.push(idle(Connection, keyword, "the daemon does not use it, or notes it for others"));
    }
    // For the whole daemon.
    rows.push(row(Daemon, "ikev1-policy", Field::OldVersion, words([("accept", Value::Flag(true)), ("drop", Value::Flag(false)), ("reject", Value::Flag(false))])).or("drop"));
    rows.push(Statement::only(Daemon, "listen-udp", ["yes"]));
    for keyword in ["nssdir", "secretsfile", "ipsecdir", "protostack", "global-redirect", "listen", "interfaces"] {
        rows.push(Statement::aside(Daemon, keyword, ["/etc/ipsec.d", "/var/lib/ipsec/nss", "/etc/ipsec.secrets", "netkey", "xfrm", "auto", "no", "disabled", "%defaultroute"], "where the daemon keeps and looks up what it has"));
    }
    // Whether a certificate was called back stands in no file.
    for keyword in ["crl-strict", "ocsp-strict"] {
        rows.push(Statement::bearing(Daemon, keyword, ["no"], Bearing::Authentication));
    }
    for keyword in ["listen-tcp", "ike-socket-bufsize", "ike-socket-errqueue", "nflog-all", "keep-alive", "virtual-private", "myvendorid", "nhelpers",
        "seedbits", "ikev1-secctx-attr-type", "secctx-attr-type", "crlcheckinterval", "curl-iface", "curl-timeout", "ocsp-enable", "ocsp-method", "ocsp-timeout",
        "ocsp-uri", "ocsp-trustname", "ocsp-cache-size", "ocsp-cache-min-age", "ocsp-cache-max-age", "syslog", "plutodebug", "uniqueids", "logfile",
        "logappend", "logip", "audit-log", "logtime", "ddos-mode", "ddos-ike-threshold", "global-redirect-to", "max-halfopen-ike", "shuntlifetime",
        "xfrmlifetime", "dumpdir", "statsbin", "dnssec-enable", "dnssec-rootkey-file", "dnssec-anchors", "plutostderrlog", "drop-oppo-null"] {
        rows.push(idle(Daemon, keyword, "how the daemon runs, and what it tells"));
    }
    for row in &mut rows {
        row.admits = admits(row.section, &row.keyword);
    }
    rows
}

/// What the parser of 4.10 takes (`addconn --checkconfig`).
#[rustfmt::skip]
fn admits(section: Section, keyword: &str) -> Admits {
    const DEBUG: &[&str] = &["all", "none", "base", "cpu-usage", "refcnt", "tmi", "crypt", "private", "whackwatch", "add-prefix"];
    const FLAG: &[&str] = &["yes", "no", "true", "false", "on", "off", "y", "n", "t", "f"];
    let end = keyword.strip_prefix("left").or(keyword.strip_prefix("right")).unwrap_or(keyword);
    if section == Section::Daemon {
        return match keyword {
            "logtime" | "logappend" | "logip" | "audit-log" | "dnssec-enable" | "uniqueids" | "crl-strict" | "ocsp-strict" | "ocsp-enable"
            | "ike-socket-errqueue" | "listen-tcp" | "listen-udp" | "drop-oppo-null" => Admits::Flag(FLAG),
            "ikev1-policy" => Admits::Words(&["accept", "reject", "drop"]),
            "ddos-mode" => Admits::Words(&["auto", "busy", "unlimited"]),
            "plutodebug" => Admits::List(DEBUG),
            "ocsp-method" => Admits::Words(&["get", "post"]),
            _ => Admits::Any,
        };
    }
    match end {
        "pfs" | "aggressive" | "narrowing" | "decap-dscp" | "xauthserver" | "xauthclient" | "modecfgserver" | "modecfgclient" | "cat" | "intermediate"
        | "nopmtudisc" | "mobike" | "pam-authorize" | "nat-keepalive" | "initial-contact" | "send-no-esp-tfc" | "fake-strongswan"
        | "send-vendorid" | "sha2-truncbug" | "ms-dh-downgrade" | "require-id-on-certificate" | "ikepad" | "nm-configured"
        | "modecfgpull" | "ignore-peer-dns" | "vti-routing" | "vti-shared" | "overlapip" | "reauth" | "rekey" | "compress" => Admits::Flag(FLAG),
        "plutodebug" => Admits::List(DEBUG),
        "ikev2" => Admits::Words(&["insist", "yes", "no", "never", "permit", "propose", "always"]),
        "keyexchange" => Admits::Words(&["ike"]),
        "encapsulation" => Admits::Words(&["yes", "no", "auto"]),
        "esn" => Admits::Words(&["yes", "no", "either"]),
        "phase2" => Admits::Words(&["esp", "ah"]),
        "type" => Admits::Words(&["tunnel", "transport", "passthrough", "drop", "reject"]),
        "auto" => Admits::Words(&["ignore", "add", "start", "up", "ondemand", "route", "keep"]),
        "dpdaction" => Admits::Words(&["hold", "clear", "restart", "restart_by_peer"]),
        "auth" => Admits::Words(&["never", "secret", "rsasig", "rsa", "ecdsa", "null", "eaponly"]),
        "sendcert" => Admits::Words(&["never", "sendifasked", "alwayssend", "always"]),
        "autheap" => Admits::Words(&["none", "tls"]),
        "hostaddrfamily" | "clientaddrfamily" => Admits::Words(&["ipv4", "ipv6"]),
        "ppk" => Admits::Words(&["no", "never", "permit", "propose", "yes", "insist", "always"]),
        "fragmentation" => Admits::Words(&["yes", "no", "force", "never", "insist"]),
        "send-redirect" => Admits::Words(&["yes", "no", "auto"]),
        "accept-redirect" => Admits::Words(&["yes", "no", "auto"]),
        "nat-ikev1-method" => Admits::Words(&["both", "none", "rfc", "drafts"]),
        "xauthby" => Admits::Words(&["file", "pam", "alwaysok"]),
        "xauthfail" => Admits::Words(&["soft", "hard"]),
        "nic-offload" => Admits::Words(&["auto", "yes", "no"]),
        "sendca" => Admits::Words(&["none", "issuer", "all"]),
        "failureshunt" => Admits::Words(&["none", "passthrough", "drop", "reject", "hold"]),
        "negotiationshunt" => Admits::Words(&["hold", "passthrough", "drop"]),
        "enable-tcp" => Admits::Words(&["yes", "no", "fallback"]),
        "rekeyfuzz" => Admits::Percent,
        _ => Admits::Any,
    }
}

/// How one end proves itself, where the two do not do it alike. A signature is one with a certificate, unless a bare key stands beside it.
fn one_method() -> Codec {
    words([
        ("secret", Value::Method(Method::SharedSecret)),
        ("rsasig", Value::Method(Method::Certificate)),
        ("ecdsa", Value::Method(Method::Certificate)),
        ("rsa", Value::Method(Method::Certificate)),
    ])
}

/// Identities that the daemon makes of something else, and subjects with attributes that are not read.
fn is_other_identity(_: &Profile, text: &str) -> bool {
    text.starts_with('%') || text.starts_with("@#") || text.starts_with("@~") || text.contains(['=', '*'])
}

fn default_ike(profile: &Profile, record: &Record) -> Option<Value> {
    Some(Value::Proposals(profile.offers.ike(record.value(Field::Version)?)))
}

fn default_esp(profile: &Profile, record: &Record) -> Option<Value> {
    Some(Value::Proposals(profile.offers.esp(record.value(Field::Version)?)))
}

fn is_virtual(_: &Profile, text: &str) -> bool {
    text.starts_with("vhost:") || text.starts_with("vnet:")
}

fn write_endpoint(value: &Value, anywhere: &str) -> Result<String, Vec<Unwritable>> {
    match value {
        Value::Endpoint(Endpoint::OneOf(_) | Endpoint::Within(_)) => {
            Err(vec![Unwritable::new("an end at one of several addresses, while Libreswan has one", "Write one address, or any.")])
        }
        Value::Endpoint(end) => Ok(address_text::endpoint(end, anywhere)),
        _ => Err(of_another_kind()),
    }
}

fn read_endpoint(text: &str) -> Option<Value> {
    let anywhere = matches!(text, "%defaultroute" | "%any" | "%any4" | "%any6" | "0.0.0.0" | "::").then_some(Endpoint::Anywhere);
    anywhere.or_else(|| Endpoint::read(text)).map(Value::Endpoint)
}

fn write_identity(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Identity(identity) = value else { return Err(of_another_kind()) };
    identity_text(identity).map_err(|refused| vec![refused])
}

/// An identity as it stands in both files. The leading `@` keeps the daemon from asking a name server.
pub(super) fn identity_text(identity: &Identity) -> Result<String, Unwritable> {
    quote(&match identity {
        Identity::Anybody | Identity::Implied(_) => return Err(Unwritable::no_identity()),
        Identity::Address(address) => address_text::address(*address),
        Identity::Name(name) => format!("@{name}"),
        Identity::Mail(name) => name.clone(),
        Identity::Free(name) => format!("@[{name}]"),
        Identity::Subject(subject) => subject.to_string(),
    })
}

pub(super) fn identity(text: &str) -> Option<Identity> {
    let text = text.trim_matches('"');
    match text {
        "%fromcert" => return Some(Identity::Implied(OF_CERTIFICATE)),
        "%any" | "%any6" => return Some(Identity::Anybody),
        _ => {}
    }
    // Keys by their names, and several names in one.
    if text.starts_with("@#") || text.starts_with("@~") || text.contains('*') {
        return None;
    }
    if let Ok(address) = text.parse() {
        return Some(Identity::Address(address));
    }
    if let Some(free) = text.strip_prefix("@[").and_then(|rest| rest.strip_suffix(']')) {
        return Some(Identity::Free(free.to_owned()));
    }
    if let Some(name) = text.strip_prefix('@') {
        return Some(Identity::Name(name.to_owned()));
    }
    if text.contains('=') {
        return Subject::read(text).map(Identity::Subject);
    }
    if text.contains('@') {
        return Some(Identity::Mail(text.to_owned()));
    }
    // A name without `@` before it is asked of a name server.
    matches!(Endpoint::read(text), Some(Endpoint::Named(_))).then(|| Identity::Name(text.to_owned()))
}

fn write_text(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Text(text) = value else { return Err(of_another_kind()) };
    Ok(text.clone())
}

fn write_proposals(profile: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Proposals(list) = value else { return Err(of_another_kind()) };
    let (words, refused): (Vec<_>, Vec<_>) = list.iter().map(|one| proposal::write(profile, one)).partition(Result::is_ok);
    match refused.is_empty() {
        true => Ok(words.into_iter().filter_map(Result::ok).collect::<Vec<_>>().join(",")),
        false => Err(refused.into_iter().filter_map(Result::err).collect()),
    }
}

/// All of a list or nothing: the daemon refuses a connection with a proposal that it does not know.
fn read_proposals(profile: &Profile, text: &str, protocol: Protocol) -> Option<Value> {
    let each = text.split(',').map(|item| proposal::read(profile, item.trim(), protocol));
    each.collect::<Option<Vec<Proposal>>>().map(Value::Proposals)
}

fn selectors(nets: impl IntoIterator<Item = ipnet::IpNet>) -> Value {
    Value::Selectors(nets.into_iter().map(|net| Selector { net: Some(net), protocol: None, port: None }).collect())
}

fn write_selector(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Selectors(list) = value else { return Err(of_another_kind()) };
    match list.as_slice() {
        [Selector { net: Some(net), .. }] => Ok(address_text::prefix(*net)),
        _ => Err(vec![Unwritable::new(
            "several selectors in one Child SA, while Libreswan has one pair for each",
            "Write a Child SA for each pair.",
        )]),
    }
}

fn read_selectors(text: &str) -> Option<Value> {
    let inner = text.trim().trim_start_matches('{').trim_end_matches('}');
    let nets = inner.split([',', ' ']).filter(|net| !net.is_empty()).map(network);
    nets.collect::<Option<Vec<_>>>().map(selectors)
}

/// A prefix, or all of a family.
fn network(text: &str) -> Option<ipnet::IpNet> {
    match text {
        "0/0" | "%v4:0/0" | "0.0.0.0/0" => Some(ipnet::Ipv4Net::default().into()),
        "::/0" | "%v6:0/0" | "::0/0" => Some(ipnet::Ipv6Net::default().into()),
        _ => prefix(text),
    }
}

fn write_protocol(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::ProtocolPort(ProtocolPort { protocol, port }) = value else { return Err(of_another_kind()) };
    Ok(format!("{protocol}/{}", port.unwrap_or(0)))
}

fn read_protocol(text: &str) -> Option<Value> {
    let (name, port) = text.split_once('/').unwrap_or((text, "0"));
    Some(Value::ProtocolPort(ProtocolPort { protocol: ip_protocol(name)?, port: ip_port(port)? }))
}

fn write_life(profile: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Time(life) = value else { return Err(of_another_kind()) };
    if *life > profile.longest_lifetime {
        return Err(vec![Unwritable::new("a lifetime over 24 h, which Libreswan does not accept", "Choose at most `24h`.")]);
    }
    if *life != Duration::from_secs(life.as_secs()) {
        return Err(vec![Unwritable::new("a lifetime with parts of a second", "Choose whole seconds.")]);
    }
    Ok(life.as_secs().to_string() + "s")
}

fn write_number(_: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Number(number) = value else { return Err(of_another_kind()) };
    Ok(number.to_string())
}

/// 0 is for ever.
fn read_tries(text: &str) -> Option<Value> {
    if text == "%forever" { Some(Value::Number(0)) } else { text.parse().ok().map(Value::Number) }
}

/// 0 is none.
fn read_interface(text: &str) -> Option<Value> {
    match text {
        "no" => Some(Value::Number(0)),
        "yes" => Some(Value::Number(1)),
        _ => text.parse().ok().filter(|number| *number > 0).map(Value::Number),
    }
}

//! Words that the trade has for what a description calls otherwise, and the notifications by which gateways refuse each other: what a
//! description, a sheet or a log is searched by.

use std::fmt::Write as _;

/// Words of the trade, and what to write for them.
#[derive(Debug)]
pub struct TradeWord {
    /// In lower case, with `-` between their parts.
    pub words: &'static [&'static str],
    /// What a description has for it.
    pub ours: &'static str,
    /// What that says.
    pub says: &'static str,
}

const fn word(words: &'static [&'static str], ours: &'static str, says: &'static str) -> TradeWord {
    TradeWord { words, ours, says }
}

/// All of them, by what they are about.
#[rustfmt::skip]
pub static TRADE_WORDS: &[TradeWord] = &[
    word(&["psk", "pre-shared-key", "preshared-key", "shared-key", "pre-shared-secret", "preshared-secret"], "secret = { file = … }", "the shared secret, in a file of its own"),
    word(&["cert", "x509", "x-509", "pki", "rsa-signature", "digital-signature"], "authentication = \"certificates\"", "each signs, and shows a certificate; the site's `keys` name the files"),
    word(&["ca", "ca-certificate", "trust-anchor", "root-certificate"], "keys = { issuer = … }", "the certificate of the authority that issued the site's own"),
    word(&["raw-key", "raw-public-key", "rsa-key", "pubkey"], "authentication = \"public-keys\"", "each signs, and the other one has its public key in advance"),
    word(&["auth", "auth-method", "authentication-method", "auth-by"], "authentication", "how the gateways prove who they are"),
    word(&["dpd", "dead-peer-detection", "keepalive", "keep-alive", "keepalives", "dpd-interval", "dpd-delay", "heartbeat"], "liveness", "how often a silent peer is asked whether it is still there"),
    word(&["encryption-domain", "traffic-selector", "traffic-selectors", "remote-subnet", "remote-subnets", "local-subnet", "local-subnets", "remote-network", "remote-networks", "local-network", "protected-network", "protected-networks", "subnet", "subnets"], "networks", "at each site what stands behind it; which pairs may cross, `carries` says"),
    word(&["default-route", "full-tunnel", "split-tunnel", "internet-breakout", "internet", "all-traffic", "0.0.0.0/0", "::/0"], "everything", "in a pair of `carries`: what the other network sends goes through this site, the internet with it"),
    word(&["carry", "selector", "selectors"], "carries", "the pairs of networks that may cross"),
    word(&["phase-1", "phase1", "ike-sa", "isakmp", "isakmp-sa", "ike-proposal", "ike-policy", "phase-1-proposal"], "ike", "the proposals for the IKE SA; how long it lives, `ike-lifetime` says"),
    word(&["phase-2", "phase2", "child-sa", "child", "ipsec-sa", "ipsec", "quick-mode", "ipsec-proposal", "phase-2-proposal"], "esp", "the proposals for ESP; how long its SAs live, `esp-lifetime` says"),
    word(&["proposal", "proposals", "transform", "transforms"], "ike, esp", "the proposals for the IKE SA and for ESP; or `strength`, a choice that is ready made"),
    word(&["lifetime", "sa-lifetime", "key-lifetime", "rekey", "rekey-time", "rekey-interval", "phase-1-lifetime"], "ike-lifetime, esp-lifetime", "how long an SA lives at most; it is replaced before that"),
    word(&["dh", "dh-group", "diffie-hellman", "diffie-hellman-group", "key-exchange", "kex"], "group", "the key exchange group of a proposal"),
    word(&["pfs-group", "perfect-forward-secrecy"], "pfs", "the group for new keys of ESP, `true` for that of IKE, or `false`"),
    word(&["hash", "hash-algorithm", "auth-algorithm", "authentication-algorithm", "mac"], "integrity", "the integrity algorithm of a proposal; in IKE its hash is the PRF as well"),
    word(&["cipher", "ciphers", "encryption-algorithm", "enc"], "encryption", "the cipher of a proposal"),
    word(&["ike-version", "ikeversion", "keyexchange"], "version", "`ikev2` or `ikev1`"),
    word(&["main-mode", "aggressive-mode"], "version = \"ikev1\"", "main mode; aggressive mode is `aggressive`, with the reason for it"),
    word(&["peer", "peer-address", "peer-ip", "remote-gateway", "remote-address", "remote-ip", "endpoint", "public-ip", "public-address", "wan-ip", "wan"], "gateway = { address = … }", "at each site where its gateway is reached"),
    word(&["behind-nat", "private-address", "nat-address", "inner-address"], "gateway = { own-address = … }", "what the gateway's interface has, where a NAT device stands before it"),
    word(&["nat", "snat", "source-nat", "masquerade", "masquerading", "pat", "many-to-one-nat", "outbound-nat"], "shares-internet", "at a site: the gateway translates what leaves for the internet"),
    word(&["nat-exemption", "no-nat", "nonat", "nat-bypass", "nat-exempt"], "shares-internet", "the exemption follows from it: nothing else needs to be written"),
    word(&["1-to-1-nat", "1:1-nat", "one-to-one-nat", "static-nat", "netmap", "bidirectional-nat", "overlap", "overlapping"], "appears-as", "networks that the other site sees as others of the same length"),
    word(&["nat-t", "natt", "udp-encapsulation", "encap", "force-encapsulation", "udp-4500"], "nat-traversal", "ESP in UDP"),
    word(&["mss", "tcp-mss", "mss-clamp", "mss-clamping"], "path-mtu", "the sizes inside the tunnel, the MSS too, follow from what the path takes"),
    word(&["mtu", "tunnel-mtu", "link-mtu"], "path-mtu", "the largest packet that the path between the gateways takes"),
    word(&["vti", "xfrm-interface", "tunnel-interface", "virtual-tunnel-interface", "route-based-vpn"], "style = \"route-based\"", "at a site: routes into an interface steer, and not the selectors"),
    word(&["bgp", "dynamic-routing", "ospf"], "routing = \"bgp\"", "a routing protocol over the tunnel"),
    word(&["asn", "local-as", "as", "autonomous-system"], "as-number", "at a site"),
    word(&["acl", "access-list", "firewall", "firewall-rules", "ports", "policy-rules", "allowed-services"], "services", "what connections through the tunnel may be for"),
    word(&["initiate", "opened-by", "start", "startup", "responder", "passive", "responder-only", "respond-only", "answer-only"], "initiator", "the site that opens the tunnel; the other one answers"),
    word(&["auto", "on-demand", "always-on", "auto-start", "autostart", "start-action"], "opens", "when the tunnel is opened: `at-once`, `on-traffic` or `by-hand`"),
    word(&["anti-replay", "replay", "replay-protection"], "replay-window", "how many packets late a packet may arrive"),
    word(&["esn", "extended-sequence-number"], "extended-sequence-numbers", "sequence numbers of 64 bits"),
    word(&["ipcomp", "compress", "ip-compression"], "compression", "which is refused"),
    word(&["tos", "dscp", "qos", "copy-dscp", "copy-tos"], "copies-dscp", "what becomes of the DSCP"),
    word(&["gre-over-ipsec", "gre-tunnel"], "carrier = \"gre\"", "GRE, protected by ESP in transport mode"),
    word(&["transport", "transport-mode", "host-to-host"], "carries = \"gateways\"", "what two hosts send each other, in transport mode"),
    word(&["tunnel-mode"], "carries", "what networks send each other goes in tunnel mode by itself"),
    word(&["fqdn", "dns-name", "hostname", "domain-name"], "identity = { name = … }", "a DNS name as identity"),
    word(&["user-fqdn", "userfqdn", "rfc822", "email", "mail-address", "user-at-fqdn"], "identity = { mail = … }", "a mail-like name as identity"),
    word(&["key-id", "keyid", "peer-id-string", "opaque"], "identity = { free = … }", "a name without form as identity"),
    word(&["dn", "distinguished-name", "asn1dn", "der-asn1-dn"], "identity = { subject = … }", "the subject of a certificate as identity"),
    word(&["local-id", "remote-id", "peer-id", "ike-id", "id"], "identity", "at each site how its gateway names itself"),
    word(&["local", "left", "right", "remote", "ends", "sites", "gateways"], "between", "the two sites that a tunnel joins"),
    word(&["hub-and-spoke", "hub", "spoke", "spokes", "hub-spoke"], "group … shape = \"star\"", "each member with each hub"),
    word(&["full-mesh", "any-to-any", "mesh"], "group … shape = \"mesh\"", "each member with each other one"),
    word(&["description", "comment", "remark", "ticket", "contact"], "note", "a remark for people"),
    word(&["weak", "legacy", "allow-weak", "insecure"], "allows-weak", "weak algorithms that a tunnel may offer, each with the reason"),
    word(&["connection", "conn", "vpn", "connections", "tunnels"], "[tunnel.NAME]", "one table for each tunnel"),
    word(&["gateway-type", "vendor", "device", "os", "daemon", "make"], "platform", "what runs on the site's gateway"),
    word(&["wan-interface", "external", "public-interface", "outside-interface"], "gateway = { outside = … }", "the interface towards the internet"),
    word(&["lan-interface", "lan", "internal", "inside-interface"], "gateway = { inside = … }", "the interfaces towards the protected networks"),
];

/// A text as it is looked up.
fn folded(text: &str) -> String {
    let mut folded: String = text.trim().to_lowercase().chars().map(|c| if c == '_' || c.is_whitespace() { '-' } else { c }).collect();
    while folded.contains("--") {
        folded = folded.replace("--", "-");
    }
    folded
}

/// What the trade means by a word, where a description has something else for it.
pub fn trade_word(text: &str) -> Option<&'static TradeWord> {
    let folded = folded(text);
    TRADE_WORDS.iter().find(|row| row.words.contains(&folded.as_str()))
}

/// A notification of the key exchange (IANA "IKEv2 Notify Message Types", and those of ISAKMP in RFC 2408 section 3.14.1).
#[derive(Debug)]
pub struct Notification {
    /// Its name in the registry of IKEv2.
    pub name: &'static str,
    /// What IKEv1 has for it; empty if that has nothing.
    pub in_v1: &'static str,
    /// Its number in IKEv2.
    pub number: u16,
    /// What it says.
    pub what: &'static str,
    /// What is behind it, as a rule.
    pub causes: &'static [&'static str],
    /// What to do.
    pub remedy: &'static str,
}

const HOLD: &str = "Fetch the files of both ends and hold them against each other: `uspan compare FIRST SECOND` names the value, `uspan rehearse FIRST SECOND` the message.";

/// Those that keep tunnels down.
#[rustfmt::skip]
static NOTIFICATIONS: &[Notification] = &[
    Notification { name: "NO_PROPOSAL_CHOSEN", in_v1: "NO-PROPOSAL-CHOSEN", number: 14, what: "The responder takes none of the proposals.",
        causes: &["In IKE_SA_INIT: the proposals for the IKE SA have no cipher, integrity, PRF and group in common; or the responder has no connection for these two addresses at all, which several daemons answer in the same way.", "In IKE_AUTH: the proposals for ESP have nothing in common; the IKE SA stands without an ESP SA.", "In CREATE_CHILD_SA, after hours: the group for PFS, which the first SAs do not need, differs.", "In IKEv1 also a lifetime or a way to authenticate that the responder does not take."], remedy: HOLD },
    Notification { name: "TS_UNACCEPTABLE", in_v1: "INVALID-ID-INFORMATION", number: 38, what: "The networks that the initiator proposes do not fit those of the responder.",
        causes: &["A network is written with another prefix, or is missing, at one end.", "The two ends have the same networks as their own: one has them crossed.", "One end proposes several pairs in one SA, and the other takes one pair for each.", "A translation one to one is taken into account at one end alone.", "The protocol or the ports of the selectors differ."], remedy: HOLD },
    Notification { name: "AUTHENTICATION_FAILED", in_v1: "AUTHENTICATION-FAILED", number: 24, what: "The peer did not prove that it is who it says it is, or is not who was expected.",
        causes: &["The shared secrets differ, by a blank or a line end perhaps.", "The identity that one end sends is not the one that the other expects: behind NAT most often an address for a name.", "The secret stands for other identities than those that are used.", "The certificate does not name the identity, has ended, or comes from an authority that the other end does not believe.", "The two ends want to authenticate in two ways."], remedy: HOLD },
    Notification { name: "INVALID_KE_PAYLOAD", in_v1: "INVALID-KEY-INFORMATION", number: 17, what: "The responder wants another key exchange group than the initiator guessed; in IKEv2 it says which, and is asked again.",
        causes: &["The first group of the initiator is not the one that the responder prefers: that costs a message and nothing else.", "No group of the responder's is among the initiator's proposals: then NO_PROPOSAL_CHOSEN follows, or silence."], remedy: HOLD },
    Notification { name: "INVALID_SYNTAX", in_v1: "PAYLOAD-MALFORMED", number: 7, what: "A message is not formed as it should be.",
        causes: &["In IKEv1 the first encrypted message cannot be decrypted: the shared secrets differ.", "A device in between changes or cuts what it carries: fragments are lost."], remedy: HOLD },
    Notification { name: "INVALID_IKE_SPI", in_v1: "INVALID-COOKIE", number: 4, what: "The message belongs to an IKE SA that the receiver does not have.",
        causes: &["It was restarted, or has deleted the SA: liveness checks find that out."], remedy: "Wait for one interval of `liveness`, or open the tunnel anew; if it comes back, give both ends `liveness`." },
    Notification { name: "INVALID_MAJOR_VERSION", in_v1: "INVALID-MAJOR-VERSION", number: 5, what: "The other end does not speak this version of IKE.",
        causes: &["One end has IKEv1, the other IKEv2."], remedy: "Give both ends the same `version`." },
    Notification { name: "UNSUPPORTED_CRITICAL_PAYLOAD", in_v1: "INVALID-PAYLOAD-TYPE", number: 1, what: "A message holds a payload that must be understood and is not.",
        causes: &["One end uses an extension that the other does not know."], remedy: HOLD },
    Notification { name: "SINGLE_PAIR_REQUIRED", in_v1: "", number: 34, what: "The responder takes one pair of addresses in an SA, and was proposed a network.",
        causes: &["It opens an SA for each pair of hosts."], remedy: "Ask the owner of that end for SAs between networks." },
    Notification { name: "NO_ADDITIONAL_SAS", in_v1: "", number: 35, what: "The responder takes no further Child SA in this IKE SA.",
        causes: &["Several pairs of networks, and an end that has one for each connection."], remedy: "Carry fewer pairs, or one that holds them all." },
    Notification { name: "TEMPORARY_FAILURE", in_v1: "", number: 43, what: "The other end is busy with a change of the same SA; it is tried again.",
        causes: &["Both ends replaced the keys at the same time."], remedy: "Nothing, if it passes; else give the two ends lifetimes that differ." },
    Notification { name: "CHILD_SA_NOT_FOUND", in_v1: "", number: 44, what: "The SA that is to be replaced does not exist at the other end.",
        causes: &["It was deleted there meanwhile."], remedy: "Nothing, if it passes." },
    Notification { name: "FAILED_CP_REQUIRED", in_v1: "", number: 37, what: "The responder wants to assign an inner address, and was not asked for one.",
        causes: &["It takes the initiator for a single machine, not for a site."], remedy: "Ask the owner of that end for a tunnel between sites." },
    Notification { name: "INTERNAL_ADDRESS_FAILURE", in_v1: "", number: 36, what: "The initiator asked for an inner address, and the responder has none to give.",
        causes: &["The initiator takes itself for a single machine, not for a site."], remedy: "Let that end ask for no address." },
    Notification { name: "UNACCEPTABLE_ADDRESSES", in_v1: "", number: 40, what: "The addresses that MOBIKE (RFC 4555) wants are not taken.",
        causes: &["A device between the gateways."], remedy: "Fix the addresses of both gateways." },
];

/// All of them.
pub fn notifications() -> &'static [Notification] {
    NOTIFICATIONS
}

/// A notification by its name, in the spelling of either version or of a log.
pub fn notification(text: &str) -> Option<&'static Notification> {
    let plain = |text: &str| folded(text).trim_start_matches("n(").trim_end_matches(')').trim_start_matches("v2n-").to_owned();
    let wanted = plain(text);
    NOTIFICATIONS.iter().find(|row| plain(row.name) == wanted || plain(row.in_v1) == wanted && !wanted.is_empty())
}

/// The reference page, as Markdown.
pub fn trade_reference() -> String {
    let mut page = String::from(
        "# Words of the trade\n\nGenerated; do not edit. `uspan explain WORD` says the same.\n\n| the trade says | a description says | |\n|---|---|---|\n",
    );
    for row in TRADE_WORDS {
        let _ = writeln!(page, "| {} | `{}` | {} |", row.words.join(", "), row.ours, row.says);
    }
    page.push_str("\n## Notifications\n");
    for row in NOTIFICATIONS {
        let v1 = if row.in_v1.is_empty() { String::new() } else { format!("; in IKEv1 {}", row.in_v1) };
        let _ = writeln!(page, "\n### {} ({}{v1})\n{}\n", row.name, row.number, row.what);
        row.causes.iter().for_each(|cause| _ = writeln!(page, "- {cause}"));
        let _ = writeln!(page, "\n{}", row.remedy);
    }
    page
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    /// The page in the docs says what the tables say.
    #[test]
    fn the_page_is_current() {
        assert_eq!(include_str!("../../../docs/reference/words.md"), trade_reference());
    }

    #[test]
    fn each_word_stands_once_and_is_found() {
        let mut known = BTreeSet::new();
        for row in TRADE_WORDS {
            for word in row.words {
                assert!(known.insert(word), "{word}");
                assert_eq!(trade_word(&word.to_uppercase().replace('-', " ")).map(|found| found.ours), Some(row.ours), "{word}");
            }
        }
    }

    #[test]
    fn notifications_are_found_as_logs_have_them() {
        for text in ["NO_PROPOSAL_CHOSEN", "N(NO_PROPOSAL_CHOSEN)", "NO-PROPOSAL-CHOSEN", "no proposal chosen", "v2N_NO_PROPOSAL_CHOSEN"] {
            assert_eq!(notification(text).map(|found| found.number), Some(14), "{text}");
        }
        assert_eq!(notification("INVALID-ID-INFORMATION").map(|found| found.name), Some("TS_UNACCEPTABLE"));
        assert!(notification("").is_none() && notification("something").is_none());
        assert!(NOTIFICATIONS.iter().all(|row| !row.causes.is_empty() && row.what.ends_with('.') && row.remedy.ends_with('.')));
    }
}

//! What of a gateway's files may be shown.
//!
//! A file that somebody else wrote may be wrong in any way, and a secret may stand where none belongs: behind a misspelt keyword, on
//! the wrong line, after a brace too many. So nothing is hidden because it looks like a secret; what is shown is what is known to be
//! none: keywords of the format, the values of keywords that take no secret, names in their places. Everything else is covered, byte
//! for byte, so that places stay true.

use std::collections::BTreeMap;

use crate::dialect::{Dialect, IKED_CONF, INTERFACES, IPSEC_CONF, IPTABLES, NFT, PARAMETERS, SETTINGS, VTYSH, dialect};
use crate::platform::is_keyword_of_list;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{Tree, TreeFile};
use uspan_model::source::COVERED;

/// A tree as it may be shown: what may belong to a secret is covered.
pub fn covered(tree: &Tree) -> Tree {
    let cover = |(path, file): (&String, &TreeFile)| {
        let text = shows(path, file).over(&file.text);
        (path.clone(), TreeFile { text, private: file.private, shared: file.shared, provenance: Vec::new() })
    };
    Tree { files: tree.files.iter().map(cover).collect() }
}

/// Findings about files of a gateway as they may be shown: a message that quotes what is covered says only what kind of thing is wrong.
pub fn discreet(findings: Vec<Finding>, covered: &Tree) -> Vec<Finding> {
    // Each file's words once: findings may be many.
    let mut words: BTreeMap<&str, String> = BTreeMap::new();
    let each = findings.into_iter().map(|mut finding| {
        let Some(place) = &finding.place else { return finding };
        let Some((path, file)) = covered.files.get_key_value(&*place.file) else { return finding };
        let shown = words.entry(path).or_insert_with(|| spaced(&file.text));
        let quoted = |text: &str| text.split('`').skip(1).step_by(2).all(|part| may_stand(part, shown));
        let rest = finding.related.iter().all(|(_, label)| quoted(label));
        if !(quoted(&finding.message) && quoted(&finding.remedy) && rest) {
            finding.message = generic(&finding).to_owned();
            finding.remedy = finding.rule.remedy.to_owned();
            finding.related.clear();
        }
        finding
    });
    each.collect()
}

/// White space of any kind is one blank, as in messages.
fn spaced(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Whether what a message quotes stands in what is shown; signs and the few letters of a unit tell nothing.
fn may_stand(part: &str, shown: &str) -> bool {
    let part = spaced(part);
    part.chars().filter(|c| c.is_alphanumeric()).count() <= 2 || shown.contains(&part) || OWN_WORDS.contains(&part.as_str())
}

/// What messages of readers quote without its being in the file.
const OWN_WORDS: &[&str] = &["psk", "also", "include", "secret", "left", "right", "local", "remote"];

fn generic(finding: &Finding) -> &'static str {
    match finding.rule {
        rule if *rule == rules::DEVICE_SYNTAX => "something here cannot be read; it is not shown, because a secret may stand in it",
        rule if *rule == rules::DEVICE_VALUE => {
            "a value here is none that the platform has; it is not shown, because a secret may stand in it"
        }
        _ => "something here is not understood; it is not shown, because a secret may stand in it",
    }
}

/// Which bytes of a text are shown.
struct Shows(Vec<(usize, usize)>);

impl Shows {
    fn nothing() -> Shows {
        Shows(Vec::new())
    }

    fn add(&mut self, start: usize, end: usize) {
        self.0.push((start, end));
    }

    /// The text, with everything else covered but white space.
    fn over(&self, text: &str) -> String {
        let (mut out, mut at) = (String::with_capacity(text.len()), 0);
        let cover = |out: &mut String, part: &str| {
            for c in part.chars() {
                match c {
                    '\n' | '\t' | ' ' => out.push(c),
                    _ => out.extend(std::iter::repeat_n(COVERED, c.len_utf8())),
                }
            }
        };
        for (start, end) in &self.0 {
            cover(&mut out, &text[at..*start]);
            out.push_str(&text[*start..*end]);
            at = *end;
        }
        cover(&mut out, &text[at..]);
        out
    }
}

/// What tells of secrets, in names of files, of keys and in lines.
const TELLING: &[&str] = &["secret", "psk", "passw", "passphrase", "private", "ppk", "xauth", "token", "wpa-", "pin", "pkcs11"];

fn tells(text: &str) -> bool {
    let small = text.to_ascii_lowercase();
    TELLING.iter().any(|word| small.contains(word))
}

fn shows(path: &str, file: &TreeFile) -> Shows {
    let name = path.rsplit('/').next().unwrap_or(path);
    let known = dialect(path);
    let is = |one: &'static Dialect| known.is_some_and(|known| std::ptr::eq(known, one));
    let text = file.text.as_str();
    match () {
        // Its policies hold secrets, so it is always private.
        () if is(&IKED_CONF) => iked(text),
        () if tells(name) || path.contains("/private/") => Shows::nothing(),
        () if is(&SETTINGS) => settings(text),
        () if file.private => Shows::nothing(),
        () if is(&IPSEC_CONF) => ipsec(text),
        () if path.starts_with("listing/certificates/") => Shows::nothing(),
        () if is(&NFT) || is(&IPTABLES) || path.starts_with("listing/") => lines(text, |_| true),
        () if is(&PARAMETERS) => lines(text, is_parameter),
        () if is(&VTYSH) => lines(text, |line| !line.split_whitespace().any(|word| word == "key")),
        () if is(&INTERFACES) => lines(text, |line| first(line).is_some_and(|word| IN_INTERFACES.contains(&word))),
        () if path.starts_with("etc/systemd/network/") => lines(text, |line| line.starts_with('[') || of_key(line, IN_NETWORK)),
        () => Shows::nothing(),
    }
}

/// A heading of a list, or a parameter that it has; what proves an identity only in the words for that.
fn is_parameter(line: &str) -> bool {
    let of_row = |(keyword, value): (&str, &str)| match keyword.trim() {
        "authentication" => ["pre-shared key", "raw public keys (RFC 7427)", "certificates"].contains(&value.trim()),
        keyword => is_keyword_of_list(keyword),
    };
    line.starts_with(['[', '#']) || line.split_once(':').is_some_and(of_row)
}

fn first(line: &str) -> Option<&str> {
    line.split_whitespace().next()
}

fn of_key(line: &str, keys: &[&str]) -> bool {
    line.split_once('=').is_some_and(|(key, _)| keys.iter().any(|known| key.trim().eq_ignore_ascii_case(known)))
}

#[rustfmt::skip]
const IN_INTERFACES: &[&str] = &[
    "auto", "iface", "address", "netmask", "gateway", "mtu", "up", "pre-up", "down", "post-up", "post-down", "pre-down", "source", "mapping",
    "allow-hotplug", "broadcast", "network", "source-directory", "metric", "hwaddress",
];

#[rustfmt::skip]
const IN_NETWORK: &[&str] = &["Name", "Address", "Gateway", "DNS", "MTUBytes", "Destination", "Metric", "Kind", "Local", "Remote", "InterfaceId", "Xfrm", "Tunnel"];

/// Lines that may be shown as they are, unless they tell of secrets or hold what looks like a key.
fn lines(text: &str, may: impl Fn(&str) -> bool) -> Shows {
    let mut shows = Shows::nothing();
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let says = line.trim();
        // Whatever a remark says, it is no statement.
        if !tells(says) && !says.starts_with(['#', '!']) && may(says) && !says.split_whitespace().any(looks_drawn) {
            shows.add(at, at + line.len());
        }
        at += line.len();
    }
    shows
}

/// Whether a word looks like a key in digits: those of `ip xfrm state` are.
fn looks_drawn(word: &str) -> bool {
    let digits = word.strip_prefix("0x").unwrap_or(word);
    digits.len() >= 20 && digits.bytes().all(|b| b.is_ascii_hexdigit())
        || (word.len() >= 40 && word.bytes().all(|b| b.is_ascii_alphanumeric() || b"+/=".contains(&b)))
}

/// swanctl.conf(5) and strongswan.conf(5): names of sections, keys that take no secret, and their values. Nothing from where a section
/// with secrets begins until everything is closed again, and nothing more where a brace is too much.
fn settings(text: &str) -> Shows {
    let mut shows = Shows::nothing();
    let (mut depth, mut hidden, mut broken) = (0_usize, false, false);
    let mut start = 0;
    for line in text.split_inclusive('\n') {
        let code = line[..remark(line)].trim_end();
        hidden |= tells(code) && !code.contains('=');
        let mut from = 0;
        for (i, c) in code.char_indices().filter(|(_, c)| matches!(c, '{' | '}')) {
            if c == '{' {
                let name = code[from..i].trim();
                let plain = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b"_.-:, ".contains(&b));
                hidden |= tells(name);
                if plain && !looks_drawn(name) && !hidden && !broken {
                    shows.add(start + from, start + i + 1);
                }
                depth += 1;
            } else {
                value(&mut shows, code, start, from, i, hidden || broken);
                broken |= depth == 0;
                depth = depth.saturating_sub(1);
                hidden &= depth > 0;
                if !broken {
                    shows.add(start + i, start + i + 1);
                }
            }
            from = i + 1;
        }
        value(&mut shows, code, start, from, code.len(), hidden || broken);
        start += line.len();
    }
    shows
}

/// A setting of a line, if its key is one that takes no secret.
fn value(shows: &mut Shows, code: &str, start: usize, from: usize, to: usize, hidden: bool) {
    let part = &code[from.min(to)..to];
    let Some((key, _)) = part.split_once('=') else {
        // What is included is a path.
        if !hidden && part.trim_start().starts_with("include ") && !tells(part) {
            shows.add(start + from, start + to);
        }
        return;
    };
    let name = key.trim();
    if !hidden && IN_SETTINGS.contains(&name) && !part.split_whitespace().any(looks_drawn) {
        shows.add(start + from, start + to);
    } else if !hidden && is_keyword(name) {
        // What it is called helps; what it says is not known to be harmless.
        shows.add(start + from, start + from + key.len() + 1);
    }
}

/// Whether the name of a setting is a word of a language, and not a secret on the wrong side of an equals sign.
fn is_keyword(name: &str) -> bool {
    (2..=40).contains(&name.len())
        && name.starts_with(|c: char| c.is_ascii_lowercase())
        && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || matches!(b, b'_' | b'-'))
        && name.bytes().filter(u8::is_ascii_digit).count() <= 3
}

#[rustfmt::skip]
const IN_SETTINGS: &[&str] = &[
    "version", "local_addrs", "remote_addrs", "local_port", "remote_port", "proposals", "vips", "aggressive", "pull", "dscp", "encap", "mobike",
    "dpd_delay", "dpd_timeout", "fragmentation", "childless", "send_certreq", "send_cert", "keyingtries", "unique", "reauth_time",
    "rekey_time", "over_time", "rand_time", "pools", "if_id_in", "if_id_out", "mediation", "mediated_by", "mediation_peer", "eap_vendor", "round", "certs", "cert", "pubkeys",
    "auth", "id", "eap_id", "aaa_id", "groups", "cert_policy", "cacerts", "cacert", "revocation", "ca_id", "ah_proposals", "esp_proposals",
    "sha256_96", "local_ts", "remote_ts", "life_time", "rekey_bytes", "life_bytes", "rand_bytes", "rekey_packets", "life_packets",
    "rand_packets", "updown", "hostaccess", "mode", "policies", "policies_fwd_out", "dpd_action", "ipcomp", "inactivity", "reqid", "priority",
    "interface", "mark_in", "mark_in_sa", "mark_out", "set_mark_in", "set_mark_out", "label", "label_mode", "tfc_padding", "replay_window",
    "hw_offload", "copy_df", "copy_ecn", "copy_dscp", "start_action", "close_action", "addrs", "load", "file", "crl_uris", "ocsp_uris",
    "i_dont_care_about_security_and_use_aggressive_mode_psk", "install_routes", "install_virtual_ip", "port", "port_nat_t", "threads",
];

/// Where the remark of a line begins, outside of quotes.
fn remark(line: &str) -> usize {
    let mut quoted = false;
    let found = line.char_indices().find(|(_, c)| {
        quoted ^= *c == '"';
        *c == '#' && !quoted
    });
    found.map_or(line.len(), |(at, _)| at)
}

/// ipsec.conf(5): headings of sections, what is included, and settings that take no secret.
fn ipsec(text: &str) -> Shows {
    let mut shows = Shows::nothing();
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let says = line.trim();
        let heading = matches!(first(says), Some("conn" | "ca" | "config" | "include" | "version")) && says.split_whitespace().count() == 2;
        let hides = tells(says) || says.starts_with('#') || says.split_whitespace().any(looks_drawn);
        let code = remark(line);
        if !hides && (heading || of_key(says, IN_IPSEC)) {
            shows.add(at, at + code);
        } else if let Some((key, _)) = line.split_once('=').filter(|(key, _)| !hides && is_keyword(key.trim())) {
            shows.add(at, at + key.len() + 1);
        }
        at += line.len();
    }
    shows
}

#[rustfmt::skip]
const IN_IPSEC: &[&str] = &[
    "also", "alsoflip", "left", "right", "leftsubnet", "rightsubnet", "leftsubnets", "rightsubnets", "leftid", "rightid", "leftcert",
    "rightcert", "leftca", "rightca", "leftrsasigkey", "rightrsasigkey", "leftecdsakey", "rightecdsakey", "leftpubkey", "rightpubkey", "leftckaid", "rightckaid", "leftprotoport", "rightprotoport",
    "leftsourceip", "rightsourceip", "leftnexthop", "rightnexthop", "leftvti", "leftinterface-ip", "leftikeport", "rightikeport", "leftsendcert",
    "rightsendcert", "leftauth", "rightauth", "authby", "auto", "ike", "esp", "ah", "phase2", "phase2alg", "keyexchange", "ikev2",
    "ikev1-policy", "aggressive", "aggrmode", "pfs", "type", "esn", "decap-dscp", "ikelifetime", "salifetime", "keylife", "lifetime",
    "rekeymargin", "rekeyfuzz", "rekey", "reauth", "dpddelay", "dpdtimeout", "dpdaction", "keyingtries", "replay-window", "encapsulation",
    "forceencaps", "ipsec-interface", "vti-interface", "vti-routing", "mark", "mark-in", "mark-out", "mtu", "fragmentation", "mobike", "narrowing",
    "compress", "priority", "overlapip", "sha2-truncbug", "ms-dh-downgrade", "initial-contact", "connalias", "metric", "protostack", "plutodebug",
    "logfile", "virtual-private", "uniqueids", "listen", "interfaces", "nat-keepalive", "tfc", "send-no-esp-tfc", "nic-offload", "failureshunt",
    "negotiationshunt", "leftaddresspool", "rightaddresspool", "leftupdown", "rightupdown", "debug", "nflog", "clones", "hostaddrfamily",
    "clientaddrfamily", "accept-redirect", "nopmtudisc", "salifetime", "ipsecdir", "nssdir", "secretsfile", "dumpdir",
    "accept-redirect-to", "audit-log", "crl-strict", "crlcheckinterval", "curl-iface", "curl-timeout",
    "ddos-ike-threshold", "ddos-mode", "dns-match-id", "dnssec-anchors", "dnssec-enable", "dnssec-rootkey-file", "drop-oppo-null",
    "eaponly", "enable-tcp", "fake-strongswan", "global-redirect", "global-redirect-to", "ignore-peer-dns", "ike-socket-bufsize",
    "ike-socket-errqueue", "ikepad", "ikev1-secctx-attr-type", "interface-ip", "intermediate", "ipsec-max-bytes", "ipsec-max-packets",
    "keep-alive", "labeled-ipsec", "leftautheap", "leftcat", "leftfirewall", "leftmodecfgclient", "leftmodecfgserver", "leftusername",
    "listen-tcp", "listen-udp", "logappend", "logip", "logtime", "max-halfopen-ike", "modecfgbanner", "modecfgdns", "modecfgdomains",
    "modecfgpull", "myvendorid", "nat-ikev1-method", "nflog-all", "nhelpers", "nm-configured", "null", "ocsp-cache-max-age",
    "ocsp-cache-min-age", "ocsp-cache-size", "ocsp-enable", "ocsp-method", "ocsp-strict", "ocsp-timeout", "ocsp-trustname", "ocsp-uri",
    "pam-authorize", "pfsgroup", "plutostderrlog", "policy-label", "redirect-to", "remote-peer-type", "reqid",
    "require-id-on-certificate", "retransmit-interval", "retransmit-timeout", "rightautheap", "rightcat", "rightmodecfgclient",
    "rightmodecfgserver", "rightusername", "rightvti", "sareftrack", "seccomp", "secctx-attr-type", "seedbits", "send-redirect",
    "send-vendorid", "sendca", "shuntlifetime", "statsbin", "syslog", "tcp-remoteport", "vti-shared", "xfrmlifetime",
    "leftsigkey", "rightsigkey", "margintime", "replay_window", "sha256_96", "installpolicy", "mediation", "mediated_by", "me_peerid",
    "closeaction", "lifebytes", "marginbytes", "lifepackets", "marginpackets", "inactivity", "mark_in", "mark_out", "ikedscp",
    "eap_identity", "aaa_identity", "modeconfig", "leftauth2", "leftid2", "leftcert2", "leftca2", "leftgroups", "leftgroups2",
    "leftcertpolicy", "leftallowany", "leftdns", "lefthostaccess", "rightauth2", "rightid2", "rightcert2", "rightca2", "rightgroups",
    "rightgroups2", "rightcertpolicy", "rightallowany", "rightdns", "rightfirewall", "righthostaccess", "eap", "strictcrlpolicy",
    "cachecrls", "charondebug", "charonstart", "plutostart", "klipsdebug", "prepluto", "postpluto", "fragicmp", "packetdefault",
    "hidetos", "overridemtu", "nocrsend", "nat_traversal", "keep_alive", "force_keepalive",
];

/// iked.conf(5): keywords, and the values of keywords that take no secret; nothing of a statement from `psk` on.
fn iked(text: &str) -> Shows {
    let mut shows = Shows::nothing();
    let (mut at, mut hidden, mut takes) = (0, false, false);
    while let Some(c) = text[at..].chars().next() {
        let length = match c {
            '\n' => {
                (hidden, takes) = (false, false);
                at += 1;
                continue;
            }
            // A statement goes on, and so does what is not shown of it.
            '\\' if text[at + 1..].starts_with('\n') => {
                shows.add(at, at + 1);
                at += 2;
                continue;
            }
            '#' => {
                at += text[at..].find('\n').unwrap_or(text.len() - at);
                continue;
            }
            '"' => text[at + 1..]
                .find(['"', '\n'])
                .map_or(text.len() - at, |end| end + if text[at + 1 + end..].starts_with('"') { 2 } else { 1 }),
            c if c.is_whitespace() => {
                at += c.len_utf8();
                continue;
            }
            '=' | ',' | '{' | '}' | '(' | ')' => 1,
            _ => text[at..].find(|c: char| c.is_whitespace() || "\"#=,{}()".contains(c)).unwrap_or(text.len() - at),
        };
        let word = &text[at..at + length];
        let keyword = IN_IKED.contains(&word) || is_near_keyword(word);
        hidden |= word == "psk" || word == "user";
        let sign = word.len() == 1 && !word.starts_with(|c: char| c.is_alphanumeric());
        if word == "psk" || !hidden && (keyword || sign || is_number(word) || (takes && !looks_drawn(word))) {
            shows.add(at, at + length);
        }
        // After these comes a name, an address or an identity.
        takes = TAKES.contains(&word);
        at += length;
    }
    shows
}

/// Whether a word is a keyword with one letter wrong.
fn is_near_keyword(word: &str) -> bool {
    (3..=12).contains(&word.len())
        && is_keyword(word)
        && IN_IKED.iter().chain(&["psk"]).any(|known| strsim::damerau_levenshtein(word, known) == 1)
}

/// Whether a word is an address, a prefix, a number or a duration.
fn is_number(word: &str) -> bool {
    let digits = word.bytes().filter(u8::is_ascii_digit).count();
    word.len() <= 43
        && (word.parse::<std::net::IpAddr>().is_ok()
            || word.parse::<ipnet::IpNet>().is_ok()
            || (digits <= 6 && digits > 0 && word.len() - digits <= 1))
}

const TAKES: &[&str] = &["ikev2", "srcid", "dstid", "local", "peer", "from", "to", "include", "tag", "tap", "iface", "ocsp"];

#[rustfmt::skip]
const IN_IKED: &[&str] = &[
    "set", "active", "passive", "couple", "decouple", "fragmentation", "nofragmentation", "mobike", "nomobike", "cert_partial_chain",
    "enforcesingleikesa", "noenforcesingleikesa", "stickyaddress", "nostickyaddress", "novendorid", "vendorid", "dpd_check_interval", "ocsp",
    "ikev2", "quick", "skip", "ipcomp", "tunnel", "transport", "esp", "ah", "inet", "inet6", "proto", "tcp", "udp", "icmp", "gre", "ipencap",
    "rdomain", "from", "to", "port", "any", "dynamic", "local", "peer", "ikesa", "childsa", "auth", "enc", "prf", "group", "esn", "noesn", "srcid",
    "dstid", "ikelifetime", "lifetime", "bytes", "eap", "mschap-v2", "ecdsa256", "ecdsa384", "ecdsa521", "rsa", "rfc7427", "signature", "default", "cert_path", "ocsp", "natt", "config", "request",
    "address", "netmask", "name-server", "netbios-server", "dhcp-server", "protected-subnet", "access-server", "iface", "tag", "tap", "include",
    "hmac-md5", "hmac-sha1", "hmac-sha2-256", "hmac-sha2-384", "hmac-sha2-512", "3des", "aes-128", "aes-192", "aes-256", "aes-128-ctr",
    "aes-192-ctr", "aes-256-ctr", "aes-128-gcm", "aes-192-gcm", "aes-256-gcm", "aes-128-gcm-12", "aes-256-gcm-12", "blowfish", "cast",
    "chacha20-poly1305", "aes-128-gmac", "aes-192-gmac", "aes-256-gmac", "null", "modp768", "modp1024", "modp1536", "modp2048", "modp3072",
    "modp4096", "modp6144", "modp8192", "ecp256", "ecp384", "ecp521", "ecp192", "ecp224", "brainpool224", "brainpool256", "brainpool384",
    "brainpool512", "curve25519", "sntrup761x25519", "none", "grp14", "grp15", "grp16", "grp17", "grp18", "grp19", "grp20", "grp21", "grp31",
];

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// What a platform's rows know may be shown, unless it names a secret.
    #[test]
    fn no_keyword_of_the_rows_is_missing_here() {
        for profile in crate::context::Context::built_in().readable().filter(|profile| !profile.is_run_by_others()) {
            let lists = [IN_SETTINGS, IN_IPSEC, IN_IKED];
            let best = lists.iter().map(|list| profile.statements.iter().filter(|row| !list.contains(&&*row.keyword)).collect::<Vec<_>>());
            let missing = best.min_by_key(Vec::len).expect("three lists");
            let missing: Vec<_> = missing.iter().map(|row| &*row.keyword).filter(|keyword| !tells(keyword) && keyword.len() > 1).collect();
            assert!(missing.is_empty(), "{}: {missing:?}", profile.word);
        }
    }

    fn shown(path: &str, private: bool, text: &str) -> String {
        let mut tree = Tree::default();
        let text = text.to_owned();
        tree.add(path, if private { TreeFile::private(text) } else { TreeFile::public(text) });
        covered(&tree).files[path].text.clone()
    }

    #[test]
    fn a_secret_is_covered_however_wrong_the_file_is() {
        for (path, text) in [
            ("etc/iked.conf", "ikev2 \"a\" esp from 10.0.0.0/8 to 10.1.0.0/16 psk \\\n\"A\" \\\nXSECRETX\n"),
            ("etc/iked.conf", "ikev2 \"a\" esp from 10.0.0.0/8 to 10.1.0.0/16 spk \"XSECRETX\"\n"),
            ("etc/iked.conf", "ikev2 \"a\" esp \\\npsk \"XSECRETX\nset passive\n"),
            ("etc/iked.conf", "pw = \"XSECRETX\"\n"),
            ("etc/iked.conf", "XSECRETX\n"),
            ("etc/swanctl/swanctl.conf", "secrets { x { secrte = XSECRETX } }\n"),
            ("etc/swanctl/swanctl.conf", "secrets {\n x {\n secret =\nXSECRETX\n}\n}\n"),
            ("etc/swanctl/swanctl.conf", "secrets { ike { } } }\n id = XSECRETX\n"),
            ("etc/swanctl/swanctl.conf", "sercets { x { secrte = XSECRETX } }\n"),
            ("etc/swanctl/conf.d/a.conf", "connections {\n a {\n version = 2 # XSECRETX\n } }\n"),
            ("etc/ipsec.conf", "conn a\n\tleft=192.0.2.1\n: PSK \"XSECRETX\"\n"),
            ("etc/ipsec.conf", "conn a\n\tpsk=XSECRETX\n"),
            ("etc/ipsec.d/a.secrets", "a b : PSK \"XSECRETX\"\n"),
            ("etc/frr/uspan-a.conf", " neighbor 10.0.0.1 password XSECRETX\n"),
            ("etc/network/interfaces.d/a", "iface a inet manual\n wpa-psk XSECRETX\n"),
        ] {
            let seen = shown(path, false, text);
            assert!(!seen.contains("XSECRETX") && seen.len() == text.len(), "{path}: {seen}");
        }
    }

    #[test]
    fn what_is_no_secret_is_shown() {
        let conf = "connections {\n  harvest {\n    version = 2\n    remote_addrs = 192.0.2.1\n    local {\n      id = fqdn:a.example.net\n    }\n  }\n}\n";
        assert_eq!(shown("etc/swanctl/conf.d/a.conf", false, conf), conf);
        assert_eq!(shown("etc/swanctl/conf.d/a.conf", true, "a { version = 2 }\n"), "a { version = 2 }\n");
        let conf = "conn a\n\tleft=192.0.2.1\n\tike=aes256-sha2_256;modp2048\n";
        assert_eq!(shown("etc/ipsec.d/a.conf", false, conf), conf);
        let conf = "ikev2 \"harvest\" active esp \\\n\tfrom 10.41.0.0/22 to 10.73.16.0/20 \\\n\tpeer 203.0.113.77 \\\n\tikesa enc aes-256 prf hmac-sha2-256 group modp2048 \\\n\tsrcid \"a.example.net\" lifetime 3600\n";
        assert_eq!(shown("etc/iked.conf", true, conf), conf);
    }

    proptest! {
        #[test]
        fn every_byte_stays_in_its_place(text in "[a-z{}=\"#\\\\\n\té ]{0,200}", which in 0..6_usize) {
            let path = ["etc/iked.conf", "etc/swanctl/swanctl.conf", "etc/ipsec.conf", "etc/frr/uspan-a.conf", "etc/network/interfaces", "listing/nft"][which];
            let seen = shown(path, false, &text);
            prop_assert_eq!(seen.len(), text.len());
            for (i, (old, new)) in text.bytes().zip(seen.bytes()).enumerate() {
                prop_assert!(old == new || new == 1, "byte {}", i);
            }
        }
    }
}

//! Reads iked.conf(5) and what it includes into a gateway. What is left out becomes the default of 7.2.

use std::collections::BTreeMap;
use std::time::Duration;

use ipnet::IpNet;

use super::profile::default;
use super::proposal::{self, SEQUENCE_NUMBERS};
use super::syntax::{Macros, define, expand, parse};
use super::{AUTHORITIES, IKE_EARLY, MAIN, OWN_CERTIFICATE, OWN_PRIVATE, OWN_PUBLIC, margin, peer_key};
use crate::profile::Profile;
use crate::text::{Opened, prefix};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::finding::{self as rules, Finding, Rule};
use uspan_model::gateway::{
    Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Identity, Ike, IkeVersion, KeyPair, Keying, Lifetime, Method,
    Mode, OnDeadPeer, Opening, Origin, PinnedKey, Proposal, Protocol, ReadAt, Setting, SharedSecret, Tree,
};
use uspan_model::key::{Certificate, PublicKey};
use uspan_model::secret::Secret;
use uspan_model::source::{Located, Source, Span};
use uspan_model::subject::Subject;

pub(super) fn read(profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
    let mut reader = IkedReader {
        profile,
        tree,
        gateway: Gateway::default(),
        findings: Vec::new(),
        liveness: None,
        passive: false,
        macros: Macros::new(),
        opened: Opened::of(tree),
    };
    if tree.files.contains_key(MAIN) {
        reader.file(MAIN);
    }
    let (interval, origin) = match reader.liveness {
        Some(Setting { value, origin }) => (value, origin),
        None => (Some(default::LIVENESS), uspan_model::gateway::Origin::Default),
    };
    let mut gateway = reader.gateway;
    for connection in &mut gateway.connections {
        connection.ike_mut().liveness = Setting { value: interval, origin: origin.clone() };
        for child in &mut connection.children {
            let dead = if child.opening.value.start { OnDeadPeer::Reopen } else { OnDeadPeer::Forget };
            child.on_dead_peer = Setting::default_of(interval.map(|_| dead));
        }
    }
    reader.findings.extend(reader.opened.finding());
    (gateway, reader.findings)
}

/// Values of iked.conf(5) that the daemon has on other systems, or for the other kind of SA.
const ELSEWHERE: &[&str] = &[
    "aes-128-ctr",
    "aes-192-ctr",
    "aes-256-ctr",
    "aes-128-gcm",
    "aes-192-gcm",
    "aes-256-gcm",
    "aes-128-gcm-12",
    "aes-256-gcm-12",
    "aes-128-gmac",
    "aes-192-gmac",
    "aes-256-gmac",
    "blowfish",
    "cast",
    "chacha20-poly1305",
    "hmac-sha2-256",
    "hmac-md5",
    "null",
    "sntrup761x25519",
];

struct IkedReader<'a> {
    profile: &'a Profile,
    tree: &'a Tree,
    gateway: Gateway,
    findings: Vec<Finding>,
    /// What is said for the whole daemon; nothing inside means off.
    liveness: Option<Setting<Option<Duration>>>,
    /// Whether the daemon opens nothing by itself.
    passive: bool,
    macros: Macros,
    opened: Opened,
}

/// The words of a statement, taken one after the other.
struct Words<'a> {
    words: &'a [Located<String>],
    at: usize,
}

impl<'a> Words<'a> {
    fn next(&mut self) -> Option<&'a Located<String>> {
        let word = self.words.get(self.at)?;
        self.at += 1;
        Some(word)
    }

    fn next_if(&mut self, wanted: &[&str]) -> Option<&'a Located<String>> {
        let word = self.words.get(self.at).filter(|word| wanted.contains(&word.value.as_str()))?;
        self.at += 1;
        Some(word)
    }

    fn span(&self) -> Span {
        let last = self.words.get(self.at.saturating_sub(1)).or(self.words.last());
        last.map_or_else(Span::default, |word| word.span)
    }
}

/// A policy while it is read.
#[derive(Default)]
struct Policy {
    local: Vec<IpNet>,
    remote: Vec<IpNet>,
    pairs: usize,
    ends: [Option<Endpoint>; 2],
    ike: Vec<Proposal>,
    esp: Vec<Proposal>,
    ids: [Option<Identity>; 2],
    ike_lifetime: Option<Duration>,
    lifetime: Option<Duration>,
    secret: Option<Secret>,
    active: bool,
    transport: bool,
    signs: bool,
    protocol: Option<u8>,
    /// Where each part stands.
    spans: BTreeMap<String, Span>,
}

impl IkedReader<'_> {
    fn say(&mut self, source: &Source, rule: &'static Rule, span: Span, message: impl Into<String>) {
        self.findings.push(Finding::new(rule, message.into()).at(source.place(span)));
    }

    fn file(&mut self, path: &str) {
        let Some(file) = self.tree.files.get(path).filter(|file| self.opened.enter(path, &file.text)) else { return };
        let source = Source::new(path, file.text.as_str());
        let (statements, syntax) = parse(&source);
        self.findings.extend(syntax);
        for words in &statements {
            if define(&file.text, words, &mut self.macros) {
                continue;
            }
            let words = expand(&file.text, words, &self.macros);
            let mut words = Words { words: &words, at: 0 };
            let Some(first) = words.next() else { continue };
            match first.value.as_str() {
                "include" => self.include(&source, &mut words),
                "set" => self.set(&source, &mut words),
                "ikev2" => self.policy(&source, &mut words),
                // The line holds a password, so that nothing points to it.
                "user" => {
                    let message = format!("{path} has users for EAP, which are not understood");
                    self.findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message));
                }
                other => self.say(&source, &rules::DEVICE_UNKNOWN, first.span, format!("the statement `{other}` is not understood")),
            }
        }
        self.opened.leave();
    }

    fn include(&mut self, source: &Source, words: &mut Words<'_>) {
        let Some(path) = words.next() else { return };
        let below = path.value.trim_start_matches('/').to_owned();
        if self.opened.has(&below) {
            self.say(source, &rules::DEVICE_VALUE, path.span, format!("`{}` is included by itself", path.value));
        } else if self.tree.files.contains_key(&below) {
            self.file(&below);
        } else {
            self.say(source, &rules::DEVICE_VALUE, path.span, format!("`{}` is not there", path.value));
        }
    }

    fn set(&mut self, source: &Source, words: &mut Words<'_>) {
        let Some(key) = words.next() else { return };
        match key.value.as_str() {
            "dpd_check_interval" => match words.next().map(|word| (word, duration(&word.value))) {
                Some((word, Some(interval))) => {
                    let value = Some(interval).filter(|interval| !interval.is_zero());
                    self.liveness = Some(Setting::stated(value, source.place(word.span)));
                }
                _ => self.say(source, &rules::DEVICE_VALUE, key.span, "the interval is no number of seconds"),
            },
            "passive" => self.passive = true,
            "active"
            | "couple"
            | "enforcesingleikesa"
            | "noenforcesingleikesa"
            | "fragmentation"
            | "nofragmentation"
            | "cert_partial_chain"
            | "mobike"
            | "nomobike"
            | "vendorid"
            | "novendorid" => {}
            other => self.say(source, &rules::DEVICE_UNKNOWN, key.span, format!("the setting `{other}` is not understood")),
        }
    }

    fn policy(&mut self, source: &Source, words: &mut Words<'_>) {
        const MODES: &[&str] =
            &["quick", "skip", "default", "active", "passive", "tunnel", "transport", "esp", "inet", "inet6", "from", "proto"];
        let start = words.span();
        let name = match words.words.get(words.at).filter(|word| !MODES.contains(&word.value.as_str())) {
            Some(word) => {
                words.at += 1;
                word.value.clone()
            }
            None => format!("policy{}", self.gateway.connections.len() + 1),
        };
        let mut policy = Policy::default();
        while let Some(word) = words.next() {
            let understood = self.part(source, word, words, &mut policy);
            // Parts that come several times stand from the first to the last.
            // A secret itself is nowhere shown.
            let span = word.span;
            let end = if word.value == "psk" { span.end } else { words.span().end };
            policy.spans.entry(word.value.clone()).and_modify(|known| known.end = end).or_insert(Span { start: span.start, end });
            if understood.is_none() {
                self.say(source, &rules::DEVICE_UNKNOWN, word.span, format!("`{}` is not understood here", word.value));
            }
        }
        self.add(source, start, name, policy);
    }

    /// Takes one part of a policy; nothing if it is not understood.
    fn part(&mut self, source: &Source, word: &Located<String>, words: &mut Words<'_>, policy: &mut Policy) -> Option<()> {
        match word.value.as_str() {
            "active" => policy.active = true,
            "transport" => policy.transport = true,
            "rfc7427" => policy.signs = true,
            "proto" => {
                let word = &words.next()?.value;
                policy.protocol = Some(match word.as_str() {
                    "icmp" => 1,
                    "tcp" => 6,
                    "udp" => 17,
                    "gre" => 47,
                    "ipv6-icmp" => 58,
                    number => number.parse().ok()?,
                });
            }
            "passive" | "tunnel" | "esp" | "quick" | "inet" | "inet6" | "," => {}
            "rsa" | "ecdsa256" | "ecdsa384" | "ecdsa521" => policy.signs = true,
            "from" => {
                let ipv4 = policy.ends.iter().flatten().find_map(Endpoint::address).is_none_or(|address| address.is_ipv4());
                let net = |word: &str| if word == "any" { Some(Endpoint::Anywhere.range(ipv4)) } else { prefix(word) };
                let from = net(&words.next()?.value)?;
                words.next_if(&["to"])?;
                let to = net(&words.next()?.value)?;
                policy.pairs += 1;
                if !policy.local.contains(&from) {
                    policy.local.push(from);
                }
                if !policy.remote.contains(&to) {
                    policy.remote.push(to);
                }
            }
            "local" => {
                let word = &words.next()?.value;
                policy.ends[0] = Some(if word == "any" { Endpoint::Anywhere } else { Endpoint::read(word)? });
            }
            "peer" => {
                let word = &words.next()?.value;
                policy.ends[1] = Some(if word == "any" { Endpoint::Anywhere } else { Endpoint::read(word)? });
            }
            "srcid" => policy.ids[0] = Some(identity(&words.next()?.value)?),
            "dstid" => policy.ids[1] = Some(identity(&words.next()?.value)?),
            "ikelifetime" => policy.ike_lifetime = Some(duration(&words.next()?.value)?),
            "lifetime" => policy.lifetime = Some(duration(&words.next()?.value)?),
            "psk" => policy.secret = Some(decode_secret(&words.next()?.value)?),
            "ikesa" => {
                let proposal = self.proposal(source, words, Protocol::Ike);
                policy.ike.push(proposal.without(Kind::SequenceNumbers));
            }
            "childsa" => {
                let mut proposal = self.proposal(source, words, Protocol::Esp);
                if proposal.of(Kind::SequenceNumbers).is_empty() {
                    proposal.push(Transform::sequence_numbers(false));
                }
                policy.esp.push(proposal.without(Kind::Prf));
            }
            _ => return None,
        }
        Some(())
    }

    fn proposal(&mut self, source: &Source, words: &mut Words<'_>, protocol: Protocol) -> Proposal {
        let mut proposal = Proposal::new(protocol, []);
        while let Some(key) = words.next_if(&["enc", "auth", "prf", "group", "esn", "noesn"]) {
            if let Some((_, numbers)) = SEQUENCE_NUMBERS.iter().find(|(word, _)| *word == key.value) {
                proposal.push(*numbers);
                continue;
            }
            let Some(word) = words.next() else {
                self.say(source, &rules::DEVICE_UNKNOWN, key.span, format!("`{}` is not understood here", key.value));
                continue;
            };
            let found = proposal::transform(self.profile, &key.value, &word.value, protocol);
            if let Some(transform) = found {
                proposal.push(transform);
            } else {
                // The manual has more than the daemon can do on this system.
                let (rule, message) = match ELSEWHERE.contains(&&*word.value) {
                    true => {
                        (&rules::DEVICE_UNKNOWN, format!("`{}` for `{}`, which {} cannot do", word.value, key.value, self.profile.title))
                    }
                    false => (&rules::DEVICE_VALUE, format!("`{}` is no value for `{}`", word.value, key.value)),
                };
                self.say(source, rule, word.span, message);
            }
        }
        proposal
    }

    /// The keys of a policy that signs.
    fn keys(&mut self, source: &Source, start: Span, own: &Identity, other: &Identity) {
        let public = |tree: &Tree, path: &str| tree.files.get(path).and_then(|file| PublicKey::from_pem(&file.text));
        // A key of the peer's own goes before the authorities.
        let mut certificate = None;
        match public(self.tree, &peer_key(other)) {
            Some(public) => self.gateway.pinned.push(PinnedKey { identity: other.clone(), public }),
            None => {
                let believed = self.tree.in_folder(AUTHORITIES, ".crt").filter_map(|(_, file)| Certificate::from_pem(&file.text));
                self.gateway.authorities = believed.collect();
                certificate = self.tree.files.get(OWN_CERTIFICATE).and_then(|file| Certificate::from_pem(&file.text));
            }
        }
        if self.gateway.authorities.is_empty() && !self.gateway.pinned.iter().any(|pinned| pinned.identity == *other) {
            let message = format!("neither the peer's public key at /{} nor an authority in /{AUTHORITIES}", peer_key(other));
            self.say(source, &rules::DEVICE_FILE_MISSING, start, message);
        }
        let Some(public) = public(self.tree, OWN_PUBLIC) else {
            return self.say(source, &rules::DEVICE_FILE_MISSING, start, format!("the own public key is not at /{OWN_PUBLIC}"));
        };
        let private = self.tree.secret(OWN_PRIVATE);
        let pair = KeyPair { identity: own.clone(), public, certificate, private };
        if !self.gateway.key_pairs.contains(&pair) {
            self.gateway.key_pairs.push(pair);
        }
    }

    fn add(&mut self, source: &Source, start: Span, name: String, mut policy: Policy) {
        // Between hosts the peer is where the packets go.
        if let (None, [one]) = (&policy.ends[1], policy.remote.as_slice())
            && one.prefix_len() == one.max_prefix_len()
        {
            policy.ends[1] = Some(Endpoint::At(one.addr()));
        }
        // Without a secret the peer signs, in whatever way.
        policy.signs |= policy.secret.is_none();
        policy.active &= !self.passive;
        let [local, remote] = policy.ends.map(|end| end.unwrap_or(Endpoint::Anywhere));
        if policy.pairs != policy.local.len() * policy.remote.len() {
            self.say(source, &rules::DEVICE_VALUE, start, "its networks are not every one with every other");
        }
        let spans = policy.spans;
        // What a policy leaves out is the daemon's default.
        fn said<T>(source: &Source, span: Option<&Span>, value: T) -> Setting<T> {
            Setting { value, origin: span.map_or(Origin::Default, |span| Origin::Stated(source.place(*span))) }
        }
        let at = |part: &str| spans.get(part);
        let esp = policy.lifetime.unwrap_or(default::ESP_LIFETIME);
        let ike = policy.ike_lifetime.filter(|age| !age.is_zero()).map_or(default::IKE_LIFETIME, |age| age + IKE_EARLY);
        let margin = margin(ike, esp);
        let own = policy.ids[0].clone().unwrap_or(Identity::Implied("the name of the machine"));
        let other = policy.ids[1].clone().unwrap_or(Identity::Anybody);
        let opening = if policy.active { Opening::START } else { Opening::WAIT };
        let mode = if policy.transport { Mode::Transport } else { Mode::Tunnel };
        let child = Child {
            name: format!("{name}_all"),
            local: said(source, at("from"), policy.local),
            remote: said(source, at("from"), policy.remote),
            protocol: said(source, at("proto"), policy.protocol),
            pfs: ReadAt::default(),
            sequence_numbers: ReadAt::default(),
            esp: said(source, at("childsa"), or_default(policy.esp, self.profile.offers.esp(IkeVersion::V2))),
            mode: said(source, at("transport").or(at("tunnel")), mode),
            lifetime: said(source, at("lifetime"), Lifetime { hard: esp, margin }),
            opening: said(source, at("active").or(at("passive")), opening),
            on_dead_peer: Setting::default_of(None),
            replay_window: Setting::default_of(default::REPLAY_WINDOW),
            dscp: Setting::default_of(Dscp::Outwards),
        };
        if policy.signs {
            self.keys(source, start, &own, &other);
        }
        let pinned = self.gateway.pinned.iter().any(|pinned| pinned.identity == other);
        let method = match policy.signs {
            false => Method::SharedSecret,
            true if pinned => Method::PublicKey,
            true => Method::Certificate,
        };
        self.gateway.secrets.extend(policy.secret.map(|secret| SharedSecret::between([own.clone(), other.clone()], secret)));
        self.gateway.connections.push(Connection {
            name,
            local: said(source, at("local"), local),
            remote: said(source, at("peer"), remote),
            encapsulation: Setting::default_of(Encapsulation::Automatic),
            keying: Keying::Ike(Box::new(Ike {
                exchange: Setting::default_of(Exchange::V2),
                mode: ReadAt::default(),
                local_identity: said(source, at("srcid"), own),
                remote_identity: said(source, at("dstid"), other),
                local_method: said(source, at("rfc7427").or(at("psk")), method),
                remote_method: said(source, at("rfc7427").or(at("psk")), method),
                proposals: said(source, at("ikesa"), or_default(policy.ike, self.profile.offers.ike(IkeVersion::V2))),
                lifetime: said(source, at("ikelifetime"), Lifetime { hard: ike, margin }),
                liveness: Setting::default_of(None),
                persistent: Setting::default_of(policy.active),
            })),
            interface: Setting::default_of(None),
            children: vec![child],
        });
    }
}

/// The daemon tells kinds of identities by their form.
fn or_default<T>(said: Vec<T>, default: Vec<T>) -> Vec<T> {
    if said.is_empty() { default } else { said }
}

fn identity(text: &str) -> Option<Identity> {
    Some(match text.parse() {
        Ok(address) => Identity::Address(address),
        Err(_) if text.starts_with('/') => Identity::Subject(Subject::read_slashed(text)?),
        Err(_) if text.contains('@') => Identity::Mail(text.to_owned()),
        Err(_) => Identity::Name(text.to_owned()),
    })
}

/// Seconds, or a number with `m` or `h`, in any case.
fn duration(text: &str) -> Option<Duration> {
    match text.parse::<u64>() {
        Ok(seconds) => Some(Duration::from_secs(seconds)),
        Err(_) => uspan_model::duration::parse_duration(&text.to_ascii_lowercase()),
    }
}

fn decode_secret(text: &str) -> Option<Secret> {
    match text.strip_prefix("0x") {
        Some(digits) => Secret::from_hex(digits),
        None => Some(Secret::new(text.as_bytes().to_vec())),
    }
}

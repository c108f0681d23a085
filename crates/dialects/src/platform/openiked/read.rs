//! Reads iked.conf(5) and what it includes into a gateway. What is left out becomes the default of 7.2.

use std::time::Duration;

use ipnet::IpNet;

use super::profile::default;
use super::proposal::{self, WrongWord};
use super::syntax::{BETWEEN, Macros, Part, define, expand, misplaced, parse, parts};
use super::{AUTHORITIES, IKE_EARLY, MAIN, OWN_CERTIFICATE, OWN_PRIVATE, OWN_PUBLIC, margin, peer_key};
use crate::profile::Profile;
use crate::profile::statement::{Counts, Field, ProtocolPort, Record, Section, name_unknown, read_section};
use crate::text::{Opened, Word, ip_port};
use uspan_model::algorithm::Kind;
use uspan_model::finding::{self as rules, Finding, Rule};
use uspan_model::gateway::{
    Bearing, Certification, Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Identity, Ike, IkeVersion, KeyPair,
    Keying, Lifetime, Method, Mode, OnDeadPeer, Opening, Origin, PinnedKey, Proposal, Protocol, ReadAt, Remainder, Setting, SharedSecret,
    Tree, usual_ports,
};
use uspan_model::key::{Certificate, PublicKey};
use uspan_model::secret::Secret;
use uspan_model::source::{Located, Place, Source, Span};

pub(super) fn read(profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
    let mut reader = IkedReader {
        profile,
        tree,
        gateway: Gateway::default(),
        findings: Vec::new(),
        daemon: Vec::new(),
        refused: None,
        macros: Macros::new(),
        opened: Opened::of(tree),
    };
    if tree.files.contains_key(MAIN) {
        reader.file(MAIN);
    }
    let known: Vec<_> = std::mem::take(&mut reader.daemon);
    name_unknown(profile, &[Section::Daemon], known.iter().map(|(keyword, _)| keyword), &mut reader.findings);
    let daemon = read_section(profile, &[Section::Daemon], &known, Counts::Last, &mut reader.findings);
    let liveness = daemon.setting_or(Field::Liveness, default::LIVENESS).map(|interval| Some(interval).filter(|one| !one.is_zero()));
    let is_passive = daemon.place(Field::Opening).is_some();
    let mut gateway = reader.gateway;
    for connection in &mut gateway.connections {
        connection.remainder.take(daemon.remainder.clone());
        if let Some((keyword, place)) = &reader.refused {
            connection.remainder.add(keyword, place, Bearing::Refused);
        }
        connection.ike_mut().liveness = liveness.clone();
        if is_passive {
            connection.ike_mut().persistent.value = false;
        }
        for child in &mut connection.children {
            child.opening.value.start &= !is_passive;
            let dead = if child.opening.value.start { OnDeadPeer::Reopen } else { OnDeadPeer::Forget };
            child.on_dead_peer = Setting::default_of(liveness.value.map(|_| dead));
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

/// What a policy says, as it was found.
struct StatedPolicy<'a> {
    record: &'a Record,
    ports: Setting<[Option<u16>; 2]>,
    secret: Option<Secret>,
    proof: Option<Place>,
}

struct IkedReader<'a> {
    profile: &'a Profile,
    tree: &'a Tree,
    gateway: Gateway,
    findings: Vec<Finding>,
    /// What is said for the whole daemon.
    daemon: Vec<(Word, Word)>,
    /// The first statement for which the daemon refuses the file, with all policies.
    refused: Option<(String, Place)>,
    macros: Macros,
    opened: Opened,
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
            let [first, rest @ ..] = words.as_slice() else { continue };
            match first.value.as_str() {
                "include" => self.include(&source, rest),
                "set" => self.set(&source, rest),
                "ikev2" => self.policy(&source, first.span, rest),
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

    fn include(&mut self, source: &Source, words: &[Located<String>]) {
        let Some(path) = words.first() else { return };
        let below = path.value.trim_start_matches('/').to_owned();
        if self.opened.has(&below) {
            self.say(source, &rules::DEVICE_VALUE, path.span, format!("`{}` is included by itself", path.value));
        } else if self.tree.files.contains_key(&below) {
            self.file(&below);
        } else {
            self.say(source, &rules::DEVICE_VALUE, path.span, format!("`{}` is not there", path.value));
        }
    }

    /// Keeps a setting of the daemon, which holds wherever it stands.
    fn set(&mut self, source: &Source, words: &[Located<String>]) {
        let Some(keyword) = words.first() else { return };
        let word = |word: &Located<String>| Word { value: word.value.clone(), place: source.place(word.span) };
        self.daemon.push((word(keyword), words.get(1).map_or_else(|| word(keyword), word)));
    }

    fn policy(&mut self, source: &Source, start: Span, words: &[Located<String>]) {
        const MODES: &[&str] =
            &["quick", "skip", "default", "active", "passive", "tunnel", "transport", "esp", "inet", "inet6", "from", "proto"];
        let (name, words) = match words {
            [first, rest @ ..] if !MODES.contains(&first.value.as_str()) => (first.value.clone(), rest),
            words => (format!("policy{}", self.gateway.connections.len() + 1), words),
        };
        let (mut found, mut secret, mut proof): (Vec<(Word, Word)>, _, _) = (Vec::new(), None, None);
        let parts = parts(words);
        // Packets that pass by.
        if parts.iter().any(|part| part.keyword.value == "skip") {
            return;
        }
        let (mut remainder, mut doubts) = (Remainder::default(), Vec::new());
        let ports = self.ports(source, &parts, &mut remainder);
        for (part, before) in misplaced(&parts) {
            let message = format!("`{}` behind `{before}`, where the daemon does not take it: it refuses the file", part.keyword.value);
            self.say(source, &rules::DEVICE_SYNTAX, part.keyword.span, message);
            self.refused.get_or_insert_with(|| (part.keyword.value.clone(), source.place(part.keyword.span)));
        }
        for part in parts {
            let keyword = part.keyword;
            let mut unknown =
                || self.say(source, &rules::DEVICE_UNKNOWN, keyword.span, format!("`{}` is not understood here", keyword.value));
            if !part.is_whole {
                unknown();
                remainder.add(&keyword.value, &source.place(keyword.span), Bearing::Unknown);
                continue;
            }
            if part.more {
                unknown();
                remainder.add(&keyword.value, &source.place(keyword.span), Bearing::ChildSa);
            }
            match keyword.value.as_str() {
                // A secret itself is nowhere shown.
                "psk" => {
                    proof = Some(source.place(keyword.span));
                    secret = part.words.first().and_then(|word| decode_secret(&word.value));
                    if secret.is_none() {
                        unknown();
                    }
                    continue;
                }
                // What is not understood as a whole is not read at all.
                "ikesa" if self.transforms(source, &part, Protocol::Ike) => {
                    doubts.push((Field::IkeProposals, source.place(part.span())));
                    continue;
                }
                "childsa" if self.transforms(source, &part, Protocol::Esp) => {
                    doubts.push((Field::EspProposals, source.place(part.span())));
                    continue;
                }
                _ => {}
            }
            // Parts that come several times stand from the first to the last.
            let (place, text) = (source.place(part.span()), part.text());
            let name = if keyword.value == "to" { "from" } else { keyword.value.as_str() };
            match found.iter_mut().find(|(known, _)| part.repeats() && known.value == name) {
                Some((_, value)) => {
                    value.place.span.end = place.span.end;
                    value.value.extend([BETWEEN, &text]);
                }
                None => found.push((Word { value: name.to_owned(), place: source.place(keyword.span) }, Word { value: text, place })),
            }
        }
        name_unknown(self.profile, &[Section::Connection], found.iter().map(|(keyword, _)| keyword), &mut self.findings);
        let mut record = read_section(self.profile, &[Section::Connection], &found, Counts::Last, &mut self.findings);
        record.remainder.take(remainder);
        doubts.into_iter().for_each(|(field, place)| record.mark_unknown(field, place));
        self.add(source, start, name, StatedPolicy { record: &record, ports, secret, proof });
    }

    /// The ports to which all networks of a policy are limited; where they differ that is not understood.
    fn ports(&mut self, source: &Source, parts: &[Part<'_>], remainder: &mut Remainder) -> Setting<[Option<u16>; 2]> {
        let none = Setting::default_of([None, None]);
        let mut all = parts.iter().filter(|part| ["from", "to"].contains(&part.keyword.value.as_str())).map(|part| {
            let read = |word: Option<&Located<String>>| word.map_or(Some(None), |word| ip_port(&word.value));
            let said = part.ports.iter().flatten().next();
            (read(part.ports[0]).zip(read(part.ports[1])), said.map(|word| source.place(word.span)), part.keyword)
        });
        let Some((first, place, keyword)) = all.next() else { return none };
        match (first, place) {
            (Some((own, far)), place) if all.all(|(other, ..)| other == first) => match place {
                Some(place) => Setting::stated([own, far], place),
                None => none,
            },
            _ => {
                self.say(source, &rules::DEVICE_UNKNOWN, keyword.span, "its ports are not understood, or not the same for all networks");
                remainder.add(&keyword.value, &source.place(keyword.span), Bearing::ChildSa);
                none
            }
        }
    }

    /// Names what of a proposal is not understood, and says whether there is any.
    fn transforms(&mut self, source: &Source, part: &Part<'_>, protocol: Protocol) -> bool {
        let words: Vec<_> = part.words.iter().map(|word| word.value.as_str()).collect();
        let wrong: Vec<_> = proposal::transforms(self.profile, &words, protocol).into_iter().filter_map(Result::err).collect();
        for WrongWord { at, key, word } in &wrong {
            let span = part.words[*at].span;
            match word {
                None => self.say(source, &rules::DEVICE_UNKNOWN, span, format!("`{key}` is not understood here")),
                // The manual has more than the daemon can do on this system.
                Some(word) if ELSEWHERE.contains(word) => {
                    let message = format!("`{word}` for `{key}`, which {} cannot do", self.profile.title);
                    self.say(source, &rules::DEVICE_UNKNOWN, span, message);
                }
                Some(word) => {
                    self.say(source, &rules::DEVICE_VALUE, span, format!("`{word}` is no value for `{key}`"));
                    self.refused.get_or_insert_with(|| ((*key).to_owned(), source.place(span)));
                }
            }
        }
        !wrong.is_empty()
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

    fn add(&mut self, source: &Source, start: Span, name: String, stated: StatedPolicy<'_>) {
        let StatedPolicy { record, ports, secret, proof } = stated;
        let [local, remote] =
            [Field::LocalAddress, Field::RemoteAddress].map(|field| record.setting_or::<Endpoint>(field, Endpoint::Anywhere));
        let mut remainder = record.remainder.clone();
        // Without a secret the peer signs, in whatever way.
        let signs = record.place(Field::LocalMethod).is_some() || secret.is_none();
        let ipv4 = [&local, &remote].into_iter().find_map(|end| end.value.address()).is_none_or(|address| address.is_ipv4());
        let ([local_selectors, remote_selectors], is_whole) = selectors(record, ipv4);
        if !is_whole {
            self.say(source, &rules::DEVICE_UNKNOWN, start, "its networks are not every one with every other, which is not understood");
            remainder.add("from", &source.place(start), Bearing::ChildSa);
        }
        let opening = record.setting_or(Field::Opening, Opening::WAIT);
        let is_ah = record.value(Field::SaProtocol) == Some(Protocol::Ah);
        let [ike, esp] = [(Field::IkeSoftLife, default::IKE_LIFETIME), (Field::EspHardLife, default::ESP_LIFETIME)]
            .map(|(field, none)| record.setting_or::<Duration>(field, none));
        let ike = ike.map(|age| age + IKE_EARLY);
        let margin = margin(ike.value, esp.value);
        let life = |life: Setting<Duration>| life.map(|hard| Lifetime { hard, margin });
        let own = record.setting_or(Field::LocalIdentity, Identity::Implied("the name of the machine"));
        let other = record.setting_or(Field::RemoteIdentity, Identity::Anybody);
        // What a policy leaves out is the daemon's default.
        let offers = |field, none: Vec<Proposal>| record.setting_or(field, none);
        let child = Child {
            name: format!("{name}_all"),
            local: local_selectors,
            remote: remote_selectors,
            protocol: record.optional::<ProtocolPort>(Field::LocalProtocol).map(|limit| limit.map(|limit| limit.protocol)),
            ports,
            pfs: ReadAt::default(),
            sequence_numbers: ReadAt::default(),
            of_peer: false,
            narrowing: Setting::default_of(None),
            esp: protection(offers(Field::EspProposals, self.profile.offers.esp(IkeVersion::V2)), is_ah),
            mode: record.setting_or(Field::Mode, Mode::Tunnel),
            lifetime: life(esp),
            opening: opening.clone(),
            on_dead_peer: Setting::default_of(None),
            replay_window: Setting::default_of(default::REPLAY_WINDOW),
            dscp: Setting::default_of(Dscp::Outwards),
        };
        if signs {
            self.keys(source, start, &own.value, &other.value);
        }
        let pinned = self.gateway.pinned.iter().any(|pinned| pinned.identity == other.value);
        let method = match signs {
            false => Method::SharedSecret,
            true if pinned => Method::PublicKey,
            true => Method::Certificate,
        };
        let said = record.place(Field::LocalMethod).cloned().or(proof);
        let method = Setting { value: method, origin: said.map_or(Origin::Default, Origin::Stated) };
        self.gateway.secrets.extend(secret.map(|secret| SharedSecret::between([own.value.clone(), other.value.clone()], secret)));
        self.gateway.connections.push(Connection {
            name,
            local,
            remote,
            encapsulation: Setting::default_of(Encapsulation::Automatic),
            keying: Keying::Ike(Box::new(Ike {
                exchange: Setting::default_of(Exchange::V2),
                mode: ReadAt::default(),
                local_identity: own,
                remote_identity: other,
                local_method: method.clone(),
                remote_method: method,
                proposals: offers(Field::IkeProposals, self.profile.offers.ike(IkeVersion::V2)),
                lifetime: life(ike),
                liveness: Setting::default_of(None),
                ports: usual_ports(),
                certification: Certification::default(),
                persistent: Setting::default_of(opening.value.start),
            })),
            interface: Setting::default_of(None),
            children: vec![child],
            remainder,
        });
    }
}

/// The networks of both ends, and whether the policy means each with each.
fn selectors(record: &Record, ipv4: bool) -> ([Setting<Vec<IpNet>>; 2], bool) {
    let pairs = record.setting_or::<Vec<[Option<IpNet>; 2]>>(Field::Pairs, Vec::new());
    let sides = [0, 1].map(|end| {
        let mut nets: Vec<IpNet> = Vec::new();
        for pair in &pairs.value {
            let net = pair[end].unwrap_or_else(|| Endpoint::Anywhere.range(ipv4));
            if !nets.contains(&net) {
                nets.push(net);
            }
        }
        Setting { value: nets, origin: pairs.origin.clone() }
    });
    let is_whole = pairs.value.len() == sides.iter().map(|nets| nets.value.len()).product::<usize>();
    (sides, is_whole)
}

/// For AH the same without ciphers.
fn protection(esp: Setting<Vec<Proposal>>, is_ah: bool) -> Setting<Vec<Proposal>> {
    if !is_ah {
        return esp;
    }
    let of_ah = |proposal: &Proposal| {
        let kept = proposal.transforms().iter().copied().filter(|one| one.kind != Kind::Encryption);
        Proposal::new(Protocol::Ah, kept)
    };
    esp.map(|list| list.iter().map(of_ah).collect())
}

fn decode_secret(text: &str) -> Option<Secret> {
    match text.strip_prefix("0x") {
        Some(digits) => Secret::from_hex(digits),
        None => Some(Secret::new(text.as_bytes().to_vec())),
    }
}

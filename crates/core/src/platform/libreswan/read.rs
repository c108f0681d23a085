//! Reads ipsec.conf(5) sections and ipsec.secrets(5) files into a gateway. What is left out becomes
//! the default of 4.10. Sections that share a peer are one connection with several children, as the
//! daemon shares the IKE SA between them.

use std::collections::BTreeSet;
use std::time::Duration;

use ipnet::IpNet;

use super::profile::default;
use super::proposal::{self, NARROW, SEQUENCE_NUMBERS};
use super::syntax::{ConfSection, load, parse_secrets};
use super::{FOLDER, IKEV1_SWITCH, OWN, OWN_CERTIFICATE, OWN_PRIVATE, SECRETS, SWITCHES, signatures};
use crate::algorithm::{Kind, Transform};
use crate::finding::{self as rules, Finding, Rule};
use crate::gateway::{
    Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Identity, Ike, IkeVersion, KeyPair, Keying, Lifetime, Method,
    Mode, OnDeadPeer, Opening, Proposal, Protocol, ReadAt, Setting, SharedSecret, Tree,
};
use crate::key::Certificate;
use crate::platform::text::prefix;
use crate::platform::{Profile, implied, v1_patience};
use crate::secret::Secret;
use crate::source::{Place, Source};
use crate::subject::Subject;

pub(super) fn read(profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
    let mut gateway = Gateway::default();
    let mut findings = Vec::new();
    let own = tree.files.get(OWN_CERTIFICATE).and_then(|file| Certificate::from_pem(&file.text));
    let (sections, syntax) = load(tree);
    findings.extend(syntax);
    let mut reader = IpsecReader { profile, own: own.as_ref(), findings: &mut findings };
    reader.known(&sections);
    // Without `auto` a connection waits for somebody who adds it.
    let used = |section: &&ConfSection| match section.get("auto") {
        Some(auto) => auto.value != "ignore",
        None => !section.is_base && section.get("left").is_some() && section.get("right").is_some(),
    };
    for section in sections.iter().filter(used) {
        if let Some(connection) = reader.connection(section) {
            merge(&mut gateway.connections, connection);
        }
    }
    let main = tree.files.get_key_value(SECRETS).map(|(path, file)| (path.as_str(), file));
    for (path, file) in main.into_iter().chain(tree.in_folder(FOLDER, ".secrets")) {
        let source = Source::new(path, file.text.as_str());
        for entry in parse_secrets(&source, &mut findings) {
            let identities: Vec<_> = entry.identities.iter().filter_map(|text| identity(text)).collect();
            match decode_secret(&entry.secret) {
                Some(secret) => gateway.secrets.push(SharedSecret::between(identities, secret)),
                None => findings.push(Finding::new(&rules::DEVICE_VALUE, "the secret cannot be decoded").at(source.place(entry.span))),
            }
        }
    }
    keys(&mut gateway, own, tree, &mut findings);
    let v1 = gateway.connections.iter().any(|connection| connection.version() == IkeVersion::V1);
    if v1 && !tree.files.get(SWITCHES).is_some_and(|file| file.text.contains(IKEV1_SWITCH)) {
        findings
            .push(Finding::new(&rules::DEVICE_VALUE, "a connection with IKEv1, which the daemon drops unless `ikev1-policy` accepts it"));
    }
    (gateway, findings)
}

/// The keys and authorities of connections that sign. Which authority is for which peer the daemon does not ask.
fn keys(gateway: &mut Gateway, certificate: Option<Certificate>, tree: &Tree, findings: &mut Vec<Finding>) {
    let mut signing: Vec<_> =
        gateway.connections.iter().filter(|connection| connection.ike().local_method.value == Method::Certificate).collect();
    signing.dedup_by(|one, other| one.ike().local_identity == other.ike().local_identity);
    if signing.is_empty() {
        return;
    }
    let private = tree.secret(OWN_PRIVATE);
    match certificate {
        Some(certificate) => gateway.key_pairs.extend(signing.iter().map(|connection| KeyPair {
            identity: connection.ike().local_identity.value.clone(),
            public: certificate.public(),
            certificate: Some(certificate.clone()),
            private: private.clone(),
        })),
        None => findings.push(Finding::new(
            &rules::DEVICE_UNKNOWN,
            format!("its own certificate stands in the daemon's database, not at /{OWN_CERTIFICATE}"),
        )),
    }
    let others = tree.in_folder(FOLDER, ".crt").filter(|(path, _)| *path != OWN_CERTIFICATE);
    gateway.authorities.extend(others.filter_map(|(_, file)| Certificate::from_pem(&file.text)));
}

/// Adds a connection, or its child to the connection with the same peer settings.
fn merge(connections: &mut Vec<Connection>, mut new: Connection) {
    let mut children = std::mem::take(&mut new.children);
    for known in connections.iter_mut().rev() {
        let theirs = std::mem::take(&mut known.children);
        let same = *known == new;
        known.children = theirs;
        if same {
            known.children.append(&mut children);
            return;
        }
    }
    connections.push(Connection { children, ..new });
}

const KEYS: &[&str] = &[
    "also",
    "alsoflip",
    "leftsubnets",
    "rightsubnets",
    "keyexchange",
    "phase2",
    "ikev2",
    "ikev1-policy",
    "aggressive",
    "encapsulation",
    "ipsec-interface",
    "leftupdown",
    "authby",
    "left",
    "right",
    "leftcert",
    "leftid",
    "rightid",
    "leftprotoport",
    "rightprotoport",
    "leftsubnet",
    "rightsubnet",
    "ike",
    "esp",
    "pfs",
    "decap-dscp",
    "esn",
    "type",
    "ikelifetime",
    "salifetime",
    "rekeymargin",
    "dpddelay",
    "dpdtimeout",
    "dpdaction",
    "keyingtries",
    "auto",
    "replay-window",
];

struct IpsecReader<'a> {
    profile: &'a Profile,
    /// The gateway's certificate; nothing where there is none.
    own: Option<&'a Certificate>,
    findings: &'a mut Vec<Finding>,
}

type ValueTest = fn(&str) -> bool;

/// Values of ipsec.conf(5) that say what this program does not: opportunistic encryption, other things to do with packets, ports.
const BESIDE: &[(&[&str], ValueTest)] = &[
    (&["left", "right"], |text| text.starts_with('%')),
    (&["leftsubnet", "rightsubnet"], |text| text.starts_with("vhost:") || text.starts_with("vnet:")),
    (&["type"], |text| ["passthrough", "reject", "drop"].contains(&text)),
    (&["authby"], |text| ["never", "null"].iter().any(|word| text.contains(word))),
    (&["leftprotoport", "rightprotoport"], |text| text.contains('/')),
    (&["leftid", "rightid"], |text| text.starts_with('%')),
];

impl IpsecReader<'_> {
    fn say(&mut self, rule: &'static Rule, place: &Place, message: String) {
        self.findings.push(Finding::new(rule, message).at(place.clone()));
    }

    /// Names what the connections say beside what is understood, each line once.
    fn known(&mut self, sections: &[ConfSection]) {
        let mut told = BTreeSet::new();
        for (key, _) in sections.iter().flat_map(|section| &section.settings) {
            let of_users = ["x-", "x_"].iter().any(|prefix| key.value.starts_with(prefix));
            if !of_users && !KEYS.contains(&key.value.as_str()) && told.insert(&key.place) {
                self.say(&rules::DEVICE_UNKNOWN, &key.place, format!("the setting `{}` is not understood", key.value));
            }
        }
    }

    fn setting<T>(&mut self, section: &ConfSection, key: &str, default: T, parse: impl Fn(&str) -> Option<T>) -> Setting<T> {
        let Some(found) = section.get(key) else { return Setting::default_of(default) };
        match parse(&found.value) {
            Some(value) => Setting::stated(value, found.place.clone()),
            None => {
                // What the daemon knows beside is named, and not blamed.
                let beside = BESIDE.iter().any(|(keys, known)| keys.contains(&key) && known(&found.value));
                let (rule, message) = match beside {
                    true => (&rules::DEVICE_UNKNOWN, format!("`{}` for `{key}` is not understood", found.value)),
                    false => (&rules::DEVICE_VALUE, format!("`{}` is no value for `{key}`", found.value)),
                };
                self.say(rule, &found.place, message);
                Setting::default_of(default)
            }
        }
    }

    /// What must be there, with its place.
    fn demanded<T>(&mut self, section: &ConfSection, key: &str, parse: impl Fn(&str) -> Option<T>) -> Option<Setting<T>> {
        if section.get(key).is_none() {
            self.say(&rules::DEVICE_VALUE, &section.name.place, format!("the connection has no `{key}`"));
        }
        let Setting { value, origin } = self.setting(section, key, None, |text| parse(text).map(Some));
        value.map(|value| Setting { value, origin })
    }

    fn proposals(&mut self, section: &ConfSection, key: &str, protocol: Protocol, default: Vec<Proposal>) -> Setting<Vec<Proposal>> {
        let profile = self.profile;
        self.setting(section, key, default, |text| text.split(',').map(|item| proposal::read(profile, item.trim(), protocol)).collect())
    }

    fn version(&mut self, section: &ConfSection) -> Setting<IkeVersion> {
        self.setting(section, "ikev2", IkeVersion::V2, |text| match text {
            "insist" | "yes" => Some(IkeVersion::V2),
            "no" | "never" => Some(IkeVersion::V1),
            _ => None,
        })
    }

    fn connection(&mut self, section: &ConfSection) -> Option<Connection> {
        let anywhere = |text: &str| matches!(text, "%defaultroute" | "%any").then_some(Endpoint::Anywhere);
        let [local, remote] =
            ["left", "right"].map(|key| self.demanded(section, key, |text| anywhere(text).or_else(|| Endpoint::read(text))));
        let (local, remote) = (local?, remote?);
        let margin = self.setting(section, "rekeymargin", default::MARGIN, duration).value;
        let life = self.setting(section, "ikelifetime", default::LIFETIME, duration);
        let delay = self.setting(section, "dpddelay", None, |text| Some(duration(text).filter(|d| !d.is_zero())));
        let version = self.version(section);
        let ike = self.proposals(section, "ike", Protocol::Ike, self.profile.offers.ike(version.value));
        // Those of all proposals, each once.
        let groups = Proposal::new(Protocol::Ike, ike.value.iter().flat_map(|proposal| proposal.of(Kind::KeyExchange)).copied());
        let groups = groups.of(Kind::KeyExchange);
        let children = self.children(section, [&local.value, &remote.value], delay.value.is_some(), (version.value, groups));
        let patience = self.setting(section, "dpdtimeout", None, |text| duration(text).map(Some)).value;
        if version.value == IkeVersion::V1 && delay.value.map(v1_patience) != patience {
            self.say(&rules::DEVICE_UNKNOWN, &section.name.place, "a timeout that is not five times the liveness interval".to_owned());
        }
        // One of several ways is enough, and a signature goes before a secret.
        let method = self.setting(section, "authby", Method::Certificate, |text| {
            let ways: Vec<_> = text.split([',', '|']).map(str::trim).collect();
            let known = [
                "secret",
                "rsasig",
                "ecdsa",
                "rsa-sha1",
                "rsa-sha2",
                "rsa-sha2_256",
                "rsa-sha2_384",
                "rsa-sha2_512",
                "ecdsa-sha2_256",
                "ecdsa-sha2_384",
                "ecdsa-sha2_512",
            ];
            let signs = ways.iter().any(|way| *way != "secret");
            ways.iter().all(|way| known.contains(way)).then_some(if signs { Method::Certificate } else { Method::SharedSecret })
        });
        if let (Some(own), Some(named)) = (self.own.filter(|_| method.value == Method::Certificate), section.get("authby"))
            && !named.value.contains(signatures(own.kind()))
        {
            self.say(&rules::DEVICE_VALUE, &named.place, format!("`{}`, where the certificate is for another kind of key", named.value));
        }
        if method.value == Method::Certificate
            && let Some(named) = section.get("leftcert").filter(|named| named.value != OWN)
        {
            self.say(&rules::DEVICE_UNKNOWN, &named.place, format!("a certificate `{}` that no file shows", named.value));
        }
        let base = section.base.as_ref().unwrap_or(&section.name.value);
        let aggressive = self.setting(section, "aggressive", false, yes_or_no);
        Some(Connection {
            interface: self.setting(section, "ipsec-interface", None, |text| match text {
                "no" => Some(None),
                "yes" => Some(Some(1)),
                _ => text.parse().ok().map(Some),
            }),
            name: base.clone(),
            encapsulation: self.setting(section, "encapsulation", Encapsulation::Automatic, |text| match text {
                "auto" => Some(Encapsulation::Automatic),
                "yes" => Some(Encapsulation::Forced),
                "no" => Some(Encapsulation::Off),
                _ => None,
            }),
            keying: Keying::Ike(Box::new(Ike {
                exchange: version.map(|version| Exchange::of(version, aggressive.value)),
                mode: ReadAt(aggressive.origin.place().cloned()),
                local_identity: self.setting(section, "leftid", implied(&local.value), identity),
                remote_identity: self.setting(section, "rightid", expected(&remote.value), identity),
                local_method: method.clone(),
                remote_method: method,
                proposals: ike,
                lifetime: Setting { value: Lifetime { hard: life.value, margin }, origin: life.origin },
                // In IKEv2 a timeout beside the interval is ignored.
                liveness: delay,
                persistent: self.setting(section, "keyingtries", true, |text| match text {
                    "%forever" | "0" => Some(true),
                    _ => text.parse::<u32>().ok().map(|_| false),
                }),
            })),
            local,
            remote,
            children,
        })
    }

    /// The networks of an end: one, a list of them, or the end itself.
    fn networks(&mut self, section: &ConfSection, side: &str, end: &Endpoint) -> Setting<Vec<IpNet>> {
        let (one, several) = (format!("{side}subnet"), format!("{side}subnets"));
        if section.get(&several).is_some() {
            let list = |text: &str| {
                let inner = text.trim().trim_start_matches('{').trim_end_matches('}');
                inner.split([',', ' ']).filter(|net| !net.is_empty()).map(|net| net.parse().ok()).collect()
            };
            return self.setting(section, &several, Vec::new(), list);
        }
        // Nothing stands behind an end that names no network.
        let own = end.address().map(IpNet::from).into_iter().collect();
        self.setting(section, &one, own, |text| Some(vec![prefix(text)?]))
    }

    /// A Child SA for each pair of networks.
    fn children(&mut self, section: &ConfSection, ends: [&Endpoint; 2], liveness: bool, ike: (IkeVersion, &[Transform])) -> Vec<Child> {
        let (local, remote) = (self.networks(section, "left", ends[0]), self.networks(section, "right", ends[1]));
        let whole = self.child(section, liveness, ike);
        let alone = local.value.len() == 1 && remote.value.len() == 1;
        let mut children = Vec::new();
        for (i, near) in local.value.iter().enumerate() {
            for (j, far) in remote.value.iter().enumerate() {
                // As the daemon numbers them.
                let name = if alone { whole.name.clone() } else { format!("{}/{}x{}", whole.name, i + 1, j + 1) };
                let of = |net: &IpNet, setting: &Setting<Vec<IpNet>>| Setting { value: vec![*net], origin: setting.origin.clone() };
                children.push(Child { name, local: of(near, &local), remote: of(far, &remote), ..whole.clone() });
            }
        }
        children
    }

    /// What the Child SAs of a connection have in common.
    fn child(&mut self, section: &ConfSection, liveness: bool, (version, groups): (IkeVersion, &[Transform])) -> Child {
        let [protocol, theirs] = ["leftprotoport", "rightprotoport"]
            .map(|key| self.setting(section, key, None, |text| text.strip_suffix("/0").unwrap_or(text).parse().ok().map(Some)));
        if protocol != theirs {
            self.say(&rules::DEVICE_UNKNOWN, &section.name.place, "selectors of several protocols are not understood".to_owned());
        }
        let margin = self.setting(section, "rekeymargin", default::MARGIN, duration).value;
        let life = self.setting(section, "salifetime", default::LIFETIME, duration);
        let pfs = self.setting(section, "pfs", true, yes_or_no);
        let mut esp = self.proposals(section, "esp", Protocol::Esp, self.profile.offers.esp(version));
        let numbers = |text: &str| SEQUENCE_NUMBERS.iter().find(|(word, _)| *word == text).map(|(_, numbers)| Some(*numbers));
        let numbers = self.setting(section, "esn", None, numbers);
        for proposal in &mut esp.value {
            match pfs.value {
                false => *proposal = proposal.without(Kind::KeyExchange),
                // Without a group of its own PFS takes the one of the IKE SA.
                true if proposal.of(Kind::KeyExchange).is_empty() => groups.iter().for_each(|group| proposal.push(*group)),
                true => {}
            }
            *proposal = proposal.with(Kind::SequenceNumbers, numbers.value.unwrap_or(&[NARROW]).iter().copied());
        }
        if numbers.value.is_none() {
            let message = "extended sequence numbers are left to the peer, which is not understood".to_owned();
            self.say(&rules::DEVICE_UNKNOWN, &section.name.place, message);
        }
        Child {
            name: section.name.value.clone(),
            local: Setting::default_of(Vec::new()),
            remote: Setting::default_of(Vec::new()),
            protocol,
            esp,
            pfs: ReadAt(pfs.origin.place().cloned()),
            sequence_numbers: ReadAt(numbers.origin.place().cloned()),
            mode: self.setting(section, "type", Mode::Tunnel, |text| match text {
                "tunnel" => Some(Mode::Tunnel),
                "transport" => Some(Mode::Transport),
                _ => None,
            }),
            lifetime: Setting { value: Lifetime { hard: life.value, margin }, origin: life.origin },
            opening: self.setting(section, "auto", Opening::WAIT, |text| match text {
                "start" | "up" => Some(Opening::START),
                "ondemand" | "route" => Some(Opening::TRAP),
                "add" | "keep" => Some(Opening::WAIT),
                _ => None,
            }),
            on_dead_peer: self.setting(section, "dpdaction", liveness.then_some(OnDeadPeer::AwaitTraffic), |text| match text {
                "restart" => Some(Some(OnDeadPeer::Reopen)),
                "hold" => Some(Some(OnDeadPeer::AwaitTraffic)),
                "clear" => Some(Some(OnDeadPeer::Forget)),
                _ => None,
            }),
            replay_window: self.setting(section, "replay-window", default::REPLAY_WINDOW, |text| text.parse().ok()),
            dscp: self.setting(section, "decap-dscp", Dscp::Outwards, |text| {
                yes_or_no(text).map(|back| if back { Dscp::Both } else { Dscp::Outwards })
            }),
        }
    }
}

fn yes_or_no(text: &str) -> Option<bool> {
    match text {
        "yes" => Some(true),
        "no" => Some(false),
        _ => None,
    }
}

fn duration(text: &str) -> Option<Duration> {
    match text.parse::<u64>() {
        Ok(seconds) => Some(Duration::from_secs(seconds)),
        Err(_) => crate::duration::parse_duration(text),
    }
}

fn expected(at: &Endpoint) -> Identity {
    if *at == Endpoint::Anywhere { Identity::Anybody } else { implied(at) }
}

fn identity(text: &str) -> Option<Identity> {
    let text = text.trim_matches('"');
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

/// A secret as the daemon decodes it: in quotes literally, otherwise `0x` is hexadecimal.
fn decode_secret(text: &str) -> Option<Secret> {
    match text.strip_prefix("0x") {
        Some(digits) => Secret::from_hex(digits),
        None => {
            let inner = text.strip_prefix('"')?.strip_suffix('"')?;
            Some(Secret::new(inner.as_bytes().to_vec()))
        }
    }
}

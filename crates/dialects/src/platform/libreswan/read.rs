//! Reads ipsec.conf(5) sections and ipsec.secrets(5) files into a gateway. What is left out becomes
//! the default of 4.10. Sections that share a peer are one connection with several children, as the
//! daemon shares the IKE SA between them.

use std::collections::BTreeSet;
use std::time::Duration;

use ipnet::IpNet;

use super::statements::identity;
use super::syntax::{ConfSection, load, parse_secrets};
use super::{FOLDER, IKEV1_SWITCH, OWN, OWN_CERTIFICATE, OWN_PRIVATE, SECRETS, SWITCHES, signatures};
use crate::profile::statement::{Counts, Field, Record, Section, Selector, is_known, name_unknown, read_section};
use crate::profile::{Profile, implied, v1_patience};
use crate::text::Word;
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::finding::{self as rules, Finding, Rule};
use uspan_model::gateway::{
    Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Identity, Ike, IkeVersion, KeyPair, Keying, Lifetime, Method,
    Mode, OnDeadPeer, Opening, Proposal, Protocol, Setting, SharedSecret, Tree,
};
use uspan_model::key::Certificate;
use uspan_model::secret::Secret;
use uspan_model::source::{Place, Source};

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

struct IpsecReader<'a> {
    profile: &'a Profile,
    /// The gateway's certificate; nothing where there is none.
    own: Option<&'a Certificate>,
    findings: &'a mut Vec<Finding>,
}

/// What a connection says is one section in the daemon's eyes.
const SECTIONS: [Section; 2] = [Section::Connection, Section::Child];

/// Ways of proving an identity (ipsec.conf(5), `authby`): a secret, and signatures.
const PROOFS: [&str; 11] = [
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

impl IpsecReader<'_> {
    fn say(&mut self, rule: &'static Rule, place: &Place, message: String) {
        self.findings.push(Finding::new(rule, message).at(place.clone()));
    }

    /// Names what the connections say beside what is understood, each line once.
    fn known(&mut self, sections: &[ConfSection]) {
        let mut told = BTreeSet::new();
        let of_users = |key: &Word| ["x-", "x_"].iter().any(|prefix| key.value.starts_with(prefix));
        let keys = sections.iter().flat_map(|section| &section.settings).map(|(key, _)| key);
        let unknown = keys.filter(|key| !is_known(self.profile, &SECTIONS, key) && !of_users(key) && told.insert(&key.place));
        name_unknown(self.profile, &SECTIONS, unknown, self.findings);
    }

    fn connection(&mut self, section: &ConfSection) -> Option<Connection> {
        let record = read_section(self.profile, &SECTIONS, &section.settings, Counts::First, self.findings);
        for key in ["left", "right"].into_iter().filter(|key| section.get(key).is_none()) {
            self.say(&rules::DEVICE_VALUE, &section.name.place, format!("the connection has no `{key}`"));
        }
        let (local, remote) = (record.setting::<Endpoint>(Field::LocalAddress)?, record.setting::<Endpoint>(Field::RemoteAddress)?);
        let margin: Duration = record.value(Field::IkeMargin).unwrap_or_default();
        let version = record.setting_or(Field::Version, IkeVersion::V2);
        let aggressive = record.setting_or(Field::Aggressive, false);
        let liveness = record.setting_or(Field::Liveness, Duration::ZERO).map(|interval| Some(interval).filter(|one| !one.is_zero()));
        if version.value == IkeVersion::V1 && liveness.value.map(v1_patience) != record.value(Field::Patience) {
            self.say(&rules::DEVICE_UNKNOWN, &section.name.place, "`dpdtimeout` is not five times `dpddelay`".to_owned());
        }
        let method = self.method(&record);
        if method.value == Method::Certificate
            && let Some(named) = section.get("leftcert").filter(|named| named.value != OWN)
        {
            self.say(&rules::DEVICE_UNKNOWN, &named.place, format!("a certificate `{}` that no file shows", named.value));
        }
        let proposals = record.setting_or::<Vec<Proposal>>(Field::IkeProposals, Vec::new());
        // The groups of all of them, each once.
        let groups = Proposal::new(Protocol::Ike, proposals.value.iter().flat_map(|one| one.of(Kind::KeyExchange)).copied());
        let children =
            self.children(section, &record, [&local.value, &remote.value], (liveness.value.is_some(), groups.of(Kind::KeyExchange)));
        let expected = if remote.value == Endpoint::Anywhere { Identity::Anybody } else { implied(&remote.value) };
        Some(Connection {
            interface: record.optional::<u32>(Field::InterfaceOut).map(|id| id.filter(|id| *id > 0)),
            name: section.base.as_ref().unwrap_or(&section.name.value).clone(),
            encapsulation: record.setting_or(Field::Encapsulation, Encapsulation::Automatic),
            keying: Keying::Ike(Box::new(Ike {
                exchange: version.map(|version| Exchange::of(version, aggressive.value)),
                mode: record.read_at(Field::Aggressive),
                local_identity: record.setting_or(Field::LocalIdentity, implied(&local.value)),
                remote_identity: record.setting_or(Field::RemoteIdentity, expected),
                local_method: method.clone(),
                remote_method: method,
                proposals,
                lifetime: record.setting_or(Field::IkeHardLife, Duration::ZERO).map(|hard| Lifetime { hard, margin }),
                // In IKEv2 a timeout beside the interval is ignored.
                liveness,
                persistent: record.setting_or(Field::Tries, 0u32).map(|tries| tries == 0),
            })),
            local,
            remote,
            children,
        })
    }

    /// One of several ways is enough, and a signature goes before a secret.
    fn method(&mut self, record: &Record) -> Setting<Method> {
        let Some(said) = record.setting::<String>(Field::Proofs) else { return Setting::default_of(Method::Certificate) };
        let Some(place) = said.origin.place().cloned() else { return Setting::default_of(Method::Certificate) };
        let ways: Vec<_> = said.value.split([',', '|']).map(str::trim).collect();
        if let Some(other) = ways.iter().find(|way| !PROOFS.contains(way)) {
            // What the daemon knows beside is named, and not blamed.
            let beside = ["never", "null"].iter().any(|word| other.contains(word));
            let rule = if beside { &rules::DEVICE_UNKNOWN } else { &rules::DEVICE_VALUE };
            self.say(rule, &place, format!("`{}` is not a way to prove an identity that is understood", said.value));
            return Setting::default_of(Method::Certificate);
        }
        let signs = ways.iter().any(|way| *way != "secret");
        if let Some(own) = self.own.filter(|_| signs)
            && !said.value.contains(signatures(own.kind()))
        {
            self.say(&rules::DEVICE_VALUE, &place, format!("`{}`, where the certificate is for another kind of key", said.value));
        }
        said.map(|_| if signs { Method::Certificate } else { Method::SharedSecret })
    }

    /// The networks of an end: a list of them, one, or the end itself.
    fn networks(record: &Record, [each, one]: [Field; 2], end: &Endpoint) -> Setting<Vec<IpNet>> {
        // Nothing stands behind an end that names no network.
        let own = end.address().map(IpNet::from).into_iter().collect();
        let nets = |list: Vec<Selector>| list.into_iter().filter_map(|selector| selector.net).collect();
        record.setting(each).or(record.setting(one)).map_or(Setting::default_of(own), |setting| setting.map(nets))
    }

    /// A Child SA for each pair of networks.
    fn children(&mut self, section: &ConfSection, record: &Record, ends: [&Endpoint; 2], ike: (bool, &[Transform])) -> Vec<Child> {
        let local = Self::networks(record, [Field::LocalSelectorsEach, Field::LocalSelectors], ends[0]);
        let remote = Self::networks(record, [Field::RemoteSelectorsEach, Field::RemoteSelectors], ends[1]);
        let whole = self.child(section, record, ike);
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
    fn child(&mut self, section: &ConfSection, record: &Record, (liveness, groups): (bool, &[Transform])) -> Child {
        let [protocol, theirs] = [Field::LocalProtocol, Field::RemoteProtocol].map(|field| record.optional::<u32>(field));
        if protocol != theirs {
            self.say(
                &rules::DEVICE_UNKNOWN,
                &section.name.place,
                "`leftprotoport` and `rightprotoport` are not the same, which is not understood".to_owned(),
            );
        }
        let margin: Duration = record.value(Field::IkeMargin).unwrap_or_default();
        let pfs = record.setting_or(Field::Pfs, true);
        let mut esp = record.setting_or::<Vec<Proposal>>(Field::EspProposals, Vec::new());
        let wide = record.optional::<bool>(Field::SequenceNumbers);
        for proposal in &mut esp.value {
            match pfs.value {
                false => proposal.set(Kind::KeyExchange, []),
                // Without a group of its own PFS takes the one of the IKE SA.
                true if proposal.of(Kind::KeyExchange).is_empty() => groups.iter().for_each(|group| proposal.push(*group)),
                true => {}
            }
            proposal.set(Kind::SequenceNumbers, [Transform::sequence_numbers(wide.value == Some(true))]);
        }
        if wide.value.is_none() {
            let message = "extended sequence numbers are left to the peer, which is not understood".to_owned();
            self.say(&rules::DEVICE_UNKNOWN, &section.name.place, message);
        }
        Child {
            name: section.name.value.clone(),
            local: Setting::default_of(Vec::new()),
            remote: Setting::default_of(Vec::new()),
            protocol: protocol.map(|number| number.and_then(|number| u8::try_from(number).ok())),
            esp,
            pfs: record.read_at(Field::Pfs),
            sequence_numbers: record.read_at(Field::SequenceNumbers),
            mode: record.setting_or(Field::Mode, Mode::Tunnel),
            lifetime: record.setting_or(Field::EspHardLife, Duration::ZERO).map(|hard| Lifetime { hard, margin }),
            opening: record.setting_or(Field::Opening, Opening::WAIT),
            on_dead_peer: match record.optional(Field::OnDeadPeer) {
                Setting { value: None, .. } => Setting::default_of(liveness.then_some(OnDeadPeer::AwaitTraffic)),
                stated => stated,
            },
            replay_window: record.setting_or(Field::ReplayWindow, 0u32),
            dscp: record.setting_or(Field::Dscp, Dscp::Outwards),
        }
    }
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

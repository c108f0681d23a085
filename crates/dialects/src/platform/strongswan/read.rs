//! Reads swanctl.conf(5) snippets into a gateway. What is left out becomes the default of 5.9.8.

use std::collections::HashSet;
use std::time::Duration;

use ipnet::IpNet;

use super::statements::{patience, read_identity};
use super::syntax::{SettingsSection, load, sections_of};
use super::{AGGRESSIVE_SWITCH, AUTHORITIES, CERTIFICATES, FOLDER, MAIN, PRIVATE_KEYS, PUBLIC_KEYS, SWITCHES};
use crate::network::own_address;
use crate::profile::statement::{Counts, Field, Record, Section, Selector, name_refused, read_section};
use crate::profile::{OF_CERTIFICATE, Profile, implied};
use crate::text::Opened;
use uspan_model::finding::{self as rules, Finding, Rule};
use uspan_model::gateway::{
    Bearing, Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Identity, Ike, IkeVersion, KeyPair, Keying, Lifetime,
    Method, Mode, OnDeadPeer, Opening, Origin, PinnedKey, Proposal, ReadAt, Remainder, Setting, SharedSecret, Tree,
};
use uspan_model::key::{Certificate, PublicKey};
use uspan_model::secret::Secret;
use uspan_model::source::{Place, Span};

pub(super) fn read(profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
    let mut gateway = Gateway::default();
    let mut findings = Vec::new();
    // Without a main file of its own the packaged one stands there, which includes the folder.
    let files: Vec<&str> = match tree.files.contains_key(MAIN) {
        true => vec![MAIN],
        false => tree.in_folder(FOLDER, ".conf").map(|(path, _)| path).collect(),
    };
    let mut opened = Opened::of(tree);
    let (root, syntax) = load(tree, &files, &mut opened);
    findings.extend(syntax);
    if tree.files.contains_key(MAIN) {
        findings.extend(merged(tree));
    }
    let mut reader = SwanctlReader { profile, tree, findings: &mut findings };
    reader.sections(&root, &["connections", "secrets", "authorities", "pools"]);
    for (key, _) in &root.settings {
        reader.say(&rules::DEVICE_UNKNOWN, &key.place, format!("the setting `{}` is not understood", key.value));
    }
    for section in root.section("connections").map(|s| s.sections.as_slice()).unwrap_or_default() {
        let Some(connection) = reader.connection(section) else { continue };
        let identity = connection.ike().local_identity.value.clone();
        // The private key has the name of its public one, or of its certificate.
        let private = |file: &str| tree.secret(&format!("{PRIVATE_KEYS}/{file}"));
        for (end, beside) in [("local", "certs"), ("remote", "cacerts")] {
            let end = section.with_suffix(end);
            let both = end.and_then(|end| end.get("pubkeys").and(end.get(beside)));
            if let Some(place) = both.map(|value| value.place.clone()) {
                reader.say(&rules::DEVICE_UNKNOWN, &place, format!("`{beside}` beside `pubkeys` is not understood"));
            }
        }
        if let Some((file, public)) = reader.pem(tree, section, "local", PUBLIC_KEY) {
            gateway.key_pairs.push(KeyPair { identity, public, certificate: None, private: private(&file) });
        } else if let Some((file, certificate)) = reader.pem(tree, section, "local", CERTIFICATE) {
            let public = certificate.public();
            gateway.key_pairs.push(KeyPair { identity, public, certificate: Some(certificate), private: private(&file) });
        }
        if let Some((_, public)) = reader.pem(tree, section, "remote", PUBLIC_KEY) {
            gateway.pinned.push(PinnedKey { identity: connection.ike().remote_identity.value.clone(), public });
        }
        match section.with_suffix("remote").and_then(|end| end.get("cacerts")) {
            Some(_) => gateway.authorities.extend(reader.pem(tree, section, "remote", AUTHORITY).map(|(_, authority)| authority)),
            // Every authority that the daemon has counts.
            None if connection.ike().remote_method.value == Method::Certificate => {
                gateway.authorities.extend(tree.in_folder(AUTHORITIES, "").filter_map(|(_, file)| Certificate::from_pem(&file.text)));
            }
            None => {}
        }
        gateway.connections.push(connection);
    }
    for section in root.section("secrets").map(|s| s.sections.as_slice()).unwrap_or_default() {
        gateway.secrets.extend(reader.secret(section));
    }
    findings.extend(opened.finding());
    let switched = tree.files.get(SWITCHES).is_some_and(|file| file.text.contains(AGGRESSIVE_SWITCH));
    if gateway.connections.iter().any(|connection| connection.ike().exchange.value == Exchange::V1Aggressive) && !switched {
        let message = "aggressive mode with a shared secret, which the daemon refuses to answer without a switch in strongswan.conf";
        findings.push(Finding::new(&rules::DEVICE_VALUE, message));
    }
    (gateway, findings)
}

/// Connections of the main file that stand in the folder beside it, too: both are one to the daemon.
fn merged(tree: &Tree) -> Vec<Finding> {
    let Some(main) = tree.files.get(MAIN).filter(|file| file.text.contains("include")) else { return Vec::new() };
    let known: HashSet<String> = sections_of(&main.text, "connections").into_iter().map(|(name, _)| name).collect();
    let beside = tree.in_folder(FOLDER, ".conf").flat_map(|(path, file)| {
        let again = sections_of(&file.text, "connections").into_iter().filter(|(name, _)| known.contains(name));
        again.map(move |(name, range)| {
            let place = Place { file: path.into(), span: Span { start: range.start, end: range.start + name.len() } };
            let message = format!("`{name}` stands in /{MAIN}, too: the daemon makes one of both, and what comes later counts");
            Finding::new(&rules::DEFINED_TWICE, message).at(place)
        })
    });
    beside.collect()
}

/// A setting that names a file, the folder of that, and what it holds.
type NamedFile<T> = (&'static str, &'static str, fn(&str) -> Option<T>);
const PUBLIC_KEY: NamedFile<PublicKey> = ("pubkeys", PUBLIC_KEYS, PublicKey::from_pem);
const CERTIFICATE: NamedFile<Certificate> = ("certs", CERTIFICATES, Certificate::from_pem);
const AUTHORITY: NamedFile<Certificate> = ("cacerts", AUTHORITIES, Certificate::from_pem);

/// The IP protocol and the port that a selector is limited to.
type Limit = (Option<u8>, Option<u16>);

/// Sections whose names have a suffix where there are several.
const ENDS: [&str; 2] = ["local", "remote"];

struct SwanctlReader<'a> {
    profile: &'a Profile,
    tree: &'a Tree,
    findings: &'a mut Vec<Finding>,
}

impl SwanctlReader<'_> {
    fn say(&mut self, rule: &'static Rule, place: &Place, message: String) {
        self.findings.push(Finding::new(rule, message).at(place.clone()));
    }

    /// Names the sections that are beside those that are understood.
    fn sections(&mut self, section: &SettingsSection, known: &[&str]) {
        for inner in section.sections.iter().filter(|inner| !known.contains(&inner.name.value.as_str())) {
            self.say(&rules::DEVICE_UNKNOWN, &inner.name.place, format!("the section `{}` is not understood", inner.name.value));
        }
    }

    fn record(&mut self, kind: Section, section: &SettingsSection) -> Record {
        let mut record = read_section(self.profile, &[kind], &section.settings, Counts::Last, self.findings);
        if record.has_strangers() {
            let keywords = section.settings.iter().map(|(keyword, _)| keyword);
            name_refused(self.profile, &[kind], keywords, "does not take the connection with it", self.findings);
        }
        for unknown in &mut record.remainder.0 {
            if unknown.bearing == Bearing::Unknown && section.settings.iter().any(|(keyword, _)| keyword.place == unknown.place) {
                unknown.bearing = Bearing::Refused;
            }
        }
        record
    }

    /// The section of an end: the first one whose name begins with this word. Further ones are further rounds of proving an identity.
    fn end<'s>(&mut self, connection: &'s SettingsSection, word: &str, remainder: &mut Remainder) -> Option<&'s SettingsSection> {
        let mut all = connection.sections.iter().filter(|section| section.name.value.starts_with(word));
        let first = all.next();
        for further in all {
            let message = format!("`{}`, a further round of authentication, is not understood", further.name.value);
            self.say(&rules::DEVICE_UNKNOWN, &further.name.place, message);
            remainder.add("", &further.name.place, Bearing::Authentication);
        }
        first
    }

    fn connection(&mut self, section: &SettingsSection) -> Option<Connection> {
        let mut record = self.record(Section::Connection, section);
        let mut remainder = std::mem::take(&mut record.remainder);
        let ends = ENDS.map(|word| self.end(section, word, &mut remainder));
        let inner: Vec<_> = section.sections.iter().filter(|inner| !ENDS.iter().any(|word| inner.name.value.starts_with(word))).collect();
        for other in inner.into_iter().filter(|inner| inner.name.value != "children") {
            self.say(&rules::DEVICE_UNKNOWN, &other.name.place, format!("the section `{}` is not understood", other.name.value));
            remainder.add("", &other.name.place, Bearing::Unknown);
        }
        // Without its addresses nothing of it would be right.
        let (local, remote) = (record.setting::<Endpoint>(Field::LocalAddress)?, record.setting::<Endpoint>(Field::RemoteAddress)?);
        let addresses = ["local_addrs", "remote_addrs"].map(|key| section.get(key).is_some());
        if addresses[0] && local.origin == Origin::Default || addresses[1] && remote.origin == Origin::Default {
            return None;
        }
        let version = record.setting_or(Field::Version, IkeVersion::V2);
        let aggressive = record.setting_or(Field::Aggressive, false);
        let soft = record.setting_or(Field::IkeSoftLife, Duration::ZERO);
        let over: Duration = record.value(Field::IkeMargin).unwrap_or_default();
        let liveness = record.setting_or(Field::Liveness, Duration::ZERO).map(|interval| Some(interval).filter(|one| !one.is_zero()));
        if let (Some(interval), Some(place)) = (liveness.value, record.place(Field::Patience))
            && patience(version.value, Some(interval)).is_some_and(|due| record.value(Field::Patience) != Some(due))
        {
            self.say(&rules::DEVICE_UNKNOWN, place, "`dpd_timeout` is not five times `dpd_delay`".to_owned());
        }
        let tries = record.setting_or(Field::Tries, 1u32);
        let [inbound, outbound] = [Field::InterfaceIn, Field::InterfaceOut].map(|field| record.optional::<u32>(field));
        let [inbound, outbound] = [inbound, outbound].map(|id| id.map(|id| id.filter(|id| *id > 0)));
        if inbound != outbound {
            self.say(
                &rules::DEVICE_UNKNOWN,
                &section.name.place,
                "`if_id_in` and `if_id_out` are different interfaces for the two directions".to_owned(),
            );
        }
        let [(local_method, local_identity), (remote_method, remote_identity)] = [
            self.proof(
                (&section.name.place, &mut remainder),
                Section::LocalEnd,
                ends[0],
                &local.value,
                [Field::LocalMethod, Field::LocalIdentity, Field::LocalKey, Field::LocalCertificate],
            ),
            self.proof(
                (&section.name.place, &mut remainder),
                Section::RemoteEnd,
                ends[1],
                &remote.value,
                [Field::RemoteMethod, Field::RemoteIdentity, Field::RemoteKey, Field::Authority],
            ),
        ];
        let children = self.children(section, [&local.value, &remote.value], liveness.value.is_some(), &mut remainder);
        Some(Connection {
            remainder,
            interface: outbound,
            name: section.name.value.clone(),
            encapsulation: record.setting_or(Field::Encapsulation, Encapsulation::Automatic),
            keying: Keying::Ike(Box::new(Ike {
                exchange: version.map(|version| Exchange::of(version, aggressive.value)),
                mode: record.read_at(Field::Aggressive),
                local_method,
                remote_method,
                local_identity,
                remote_identity,
                proposals: record.setting_or(Field::IkeProposals, Vec::new()),
                lifetime: soft.map(|soft| Lifetime { hard: soft + over, margin: over }),
                liveness,
                persistent: tries.map(|tries| tries == 0),
                ports: record.ports(),
                certification: record.certification(),
            })),
            local,
            remote,
            children,
        })
    }

    fn children(&mut self, section: &SettingsSection, ends: [&Endpoint; 2], is_watched: bool, remainder: &mut Remainder) -> Vec<Child> {
        let mut children = Vec::new();
        for child in section.section("children").map(|s| s.sections.as_slice()).unwrap_or_default() {
            // What lets packets pass by, or drops them, is no Child SA.
            let is_policy = child.get("mode").is_some_and(|mode| ["pass", "drop"].contains(&mode.value.as_str()));
            let (read, more) = self.child(child, ends, is_watched);
            if !is_policy {
                remainder.take(more);
                children.push(read);
            }
        }
        children
    }

    /// How an end proves itself, and who it is.
    fn proof(
        &mut self,
        (whole, remainder): (&Place, &mut Remainder),
        kind: Section,
        end: Option<&SettingsSection>,
        at: &Endpoint,
        [how, who, key, certificate]: [Field; 4],
    ) -> (Setting<Method>, Setting<Identity>) {
        let Some(end) = end else {
            let own = kind == Section::LocalEnd;
            if own {
                remainder.add("local", whole, Bearing::Authentication);
            }
            let unsaid = if own { Identity::Implied(OF_CERTIFICATE) } else { Identity::Anybody };
            return (Setting::default_of(Method::Certificate), Setting::default_of(unsaid));
        };
        let mut record = self.record(kind, end);
        remainder.take(std::mem::take(&mut record.remainder));
        for inner in &end.sections {
            self.say(&rules::DEVICE_UNKNOWN, &inner.name.place, format!("the section `{}` is not understood", inner.name.value));
            remainder.add("", &inner.name.place, Bearing::Authentication);
        }
        let mut method = record.setting_or(how, Method::Certificate);
        if method.value == Method::Certificate && record.value::<String>(key).is_some() {
            method.value = Method::PublicKey;
        }
        let signs = method.value == Method::Certificate && kind == Section::LocalEnd;
        let names_none = signs && record.value::<String>(certificate).is_none();
        if names_none {
            let message = "it does not say with which certificate this end proves itself: the daemon takes one that fits".to_owned();
            self.say(&rules::DEVICE_UNKNOWN, &end.name.place, message);
            remainder.add("certs", &end.name.place, Bearing::Authentication);
        }
        let unsaid = match () {
            () if names_none => Identity::Implied(OF_CERTIFICATE),
            () if record.value::<String>(key).is_some() => Identity::Implied("that of its public key"),
            () if kind == Section::LocalEnd && record.value::<String>(certificate).is_some() => Identity::Implied(OF_CERTIFICATE),
            () if kind == Section::RemoteEnd => Identity::Anybody,
            () => implied(at),
        };
        (method, record.setting_or(who, unsaid))
    }

    /// The key or certificate that an end of a connection names, and its file.
    fn pem<T>(&mut self, tree: &Tree, connection: &SettingsSection, which: &str, (key, folder, take): NamedFile<T>) -> Option<(String, T)> {
        let named = connection.with_suffix(which)?.get(key)?;
        let found = tree.files.get(&format!("{folder}/{}", named.value)).and_then(|file| take(&file.text));
        if found.is_none() {
            self.say(
                &rules::DEVICE_FILE_MISSING,
                &named.place,
                format!("`{}` is no file in /{folder} of the kind that `{key}` names", named.value),
            );
        }
        found.map(|found| (named.value.clone(), found))
    }

    fn child(&mut self, section: &SettingsSection, ends: [&Endpoint; 2], liveness: bool) -> (Child, Remainder) {
        let mut record = self.record(Section::Child, section);
        self.sections(section, &[]);
        let [local, remote] = [(Field::LocalSelectors, ends[0]), (Field::RemoteSelectors, ends[1])].map(|(field, end)| {
            let is_own = field == Field::LocalSelectors;
            let mut stated = record.setting_or::<Vec<Selector>>(field, Vec::new());
            // `dynamic` is the address of the end itself.
            let asks = stated.value.iter().any(|selector| selector.net.is_none());
            let own = end.address().or_else(|| if is_own && asks { own_address(self.tree, ends[1]) } else { None }).map(IpNet::from);
            if own.is_none() && asks {
                let place = stated.origin.place().unwrap_or(&section.name.place).clone();
                self.say(&rules::DEVICE_UNKNOWN, &place, "`dynamic` is the address of an end that the files do not show".to_owned());
                stated.origin = Origin::Unknown(place);
            }
            stated.map(|list| list.into_iter().filter_map(|one| Some((one.net.or(own)?, (one.protocol, one.port)))).collect::<Vec<_>>())
        });
        let mut protocols: Vec<_> = local.value.iter().chain(&remote.value).map(|(_, (protocol, _))| *protocol).collect();
        protocols.dedup();
        let ports = [&local, &remote].map(|side| {
            let mut ports: Vec<_> = side.value.iter().map(|(_, (_, port))| *port).collect();
            ports.dedup();
            ports
        });
        let mixed = protocols.len() > 1 || ports.iter().any(|ports| ports.len() > 1);
        if mixed {
            self.say(&rules::DEVICE_UNKNOWN, &section.name.place, "selectors of several protocols or ports are not understood".to_owned());
            record.remainder.add("local_ts", &section.name.place, Bearing::ChildSa);
        }
        let ports = ports.map(|ports| ports.first().copied().flatten());
        let prefixes = |list: Vec<(IpNet, Limit)>| list.into_iter().map(|(net, _)| net).collect::<Vec<_>>();
        let soft: Duration = record.value(Field::EspSoftLife).unwrap_or_default();
        let life = record.setting_or(Field::EspHardLife, Duration::ZERO);
        let remainder = std::mem::take(&mut record.remainder);
        let of_peer = *ends[1] == Endpoint::Anywhere && remote.value.is_empty() && remote.doubt().is_some();
        let child = Child {
            name: section.name.value.clone(),
            protocol: Setting { value: protocols.first().copied().flatten(), origin: local.origin.clone() },
            ports: Setting { value: ports, origin: local.origin.clone() },
            local: local.map(prefixes),
            remote: remote.map(prefixes),
            pfs: ReadAt::default(),
            sequence_numbers: ReadAt::default(),
            of_peer,
            narrowing: Setting::default_of(None),
            esp: protection(&record),
            mode: record.setting_or(Field::Mode, Mode::Tunnel),
            lifetime: life.map(|hard| Lifetime { hard, margin: hard.saturating_sub(soft) }),
            opening: record.setting_or(Field::Opening, Opening::WAIT),
            on_dead_peer: match record.optional(Field::OnDeadPeer) {
                Setting { value: None, .. } => Setting::default_of(liveness.then_some(OnDeadPeer::Forget)),
                stated => stated,
            },
            replay_window: record.setting_or(Field::ReplayWindow, 0u32),
            dscp: record.setting_or(Field::Dscp, Dscp::Outwards),
        };
        (child, remainder)
    }

    fn secret(&mut self, section: &SettingsSection) -> Option<SharedSecret> {
        if !section.name.value.starts_with("ike") {
            self.say(&rules::DEVICE_UNKNOWN, &section.name.place, format!("the secret `{}` is not understood", section.name.value));
            return None;
        }
        let mut identities = Vec::new();
        let mut secret = None;
        for (key, value) in &section.settings {
            if key.value.starts_with("id") {
                match read_identity(&value.value) {
                    Some(identity) => identities.push(identity),
                    None => self.say(&rules::DEVICE_VALUE, &value.place, format!("`{}` is not an identity", value.value)),
                }
            } else if key.value == "secret" {
                secret = decode_secret(&value.value);
                if secret.is_none() {
                    self.say(&rules::DEVICE_VALUE, &key.place, "the secret cannot be decoded".to_owned());
                }
            } else {
                self.say(&rules::DEVICE_UNKNOWN, &key.place, format!("the setting `{}` is not understood", key.value));
            }
        }
        Some(SharedSecret::between(identities, secret?))
    }
}

/// The identities that the text of a secret names.
pub(super) fn identities_in(text: &str) -> Vec<Identity> {
    let named = text.split(['{', '}', '\n']).filter_map(|line| line.split('#').next()?.split_once('='));
    let ids = named.filter(|(key, _)| key.trim().starts_with("id"));
    ids.filter_map(|(_, value)| read_identity(value.trim().trim_matches('"'))).collect()
}

/// The proposals of a Child SA: for AH, for ESP, or for either; where nothing is said those for ESP.
fn protection(record: &Record) -> Setting<Vec<Proposal>> {
    let esp = record.setting_or::<Vec<Proposal>>(Field::EspProposals, Vec::new());
    let doubt = record.doubt(Field::AhProposals).cloned();
    let ah = record.setting::<Vec<Proposal>>(Field::AhProposals).or(doubt.map(|place| Setting::unknown(Vec::new(), place)));
    match ah {
        None => esp,
        Some(ah) if esp.origin == Origin::Default => ah,
        Some(ah) => {
            let origin = if ah.doubt().is_some() { ah.origin } else { esp.origin };
            Setting { value: esp.value.into_iter().chain(ah.value).collect(), origin }
        }
    }
}

/// A secret as the daemon decodes it: `0x` is hexadecimal, `0s` base64, anything else is taken as it stands.
fn decode_secret(text: &str) -> Option<Secret> {
    match text.strip_prefix("0x") {
        Some(digits) => Secret::from_hex(digits),
        None if text.starts_with("0s") => Secret::from_base64(&text[2..]),
        None => Some(Secret::new(text.as_bytes().to_vec())),
    }
}

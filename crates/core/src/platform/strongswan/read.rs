//! Reads swanctl.conf(5) snippets into a gateway. What is left out becomes the default of 5.9.8.

use std::time::Duration;

use ipnet::IpNet;

use super::profile::default;
use super::proposal;
use super::syntax::{SettingsSection, load};
use super::{AGGRESSIVE_SWITCH, AUTHORITIES, CERTIFICATES, FOLDER, MAIN, PRIVATE_KEYS, PUBLIC_KEYS, SWITCHES};
use crate::finding::{self as rules, Finding, Rule};
use crate::gateway::{
    Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, GRE, Gateway, Identity, Ike, IkeVersion, KeyPair, Keying, Lifetime, Method,
    Mode, OnDeadPeer, Opening, PinnedKey, Protocol, ReadAt, Setting, SharedSecret, Tree,
};
use crate::key::{Certificate, PublicKey};
use crate::platform::text::{Opened, Word, prefix};
use crate::platform::{Profile, implied, v1_patience};
use crate::secret::Secret;
use crate::source::Place;
use crate::subject::Subject;

pub(super) fn read(profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
    let mut gateway = Gateway::default();
    let mut findings = Vec::new();
    // Without a main file of its own the packaged one stands there, which includes the folder.
    let files: Vec<&str> = match tree.files.contains_key(MAIN) {
        true => vec![MAIN],
        false => tree.in_folder(FOLDER, ".conf").map(|(path, _)| path).collect(),
    };
    let mut opened = Opened::of(tree);
    for path in files {
        let (root, syntax) = load(tree, path, &mut opened);
        findings.extend(syntax);
        let mut reader = SwanctlReader { profile, findings: &mut findings };
        reader.known(&root, &[], &["connections", "secrets"]);
        for section in root.section("connections").map(|s| s.sections.as_slice()).unwrap_or_default() {
            let Some(connection) = reader.connection(section) else { continue };
            let identity = connection.ike().local_identity.value.clone();
            // The private key has the name of its public one, or of its certificate.
            let private = |file: &str| tree.secret(&format!("{PRIVATE_KEYS}/{file}"));
            if let Some((file, public)) = reader.pem(tree, section, "local", PUBLIC_KEY) {
                gateway.key_pairs.push(KeyPair { identity, public, certificate: None, private: private(&file) });
            } else if let Some((file, certificate)) = reader.pem(tree, section, "local", CERTIFICATE) {
                let public = certificate.public();
                gateway.key_pairs.push(KeyPair { identity, public, certificate: Some(certificate), private: private(&file) });
            }
            if let Some((_, public)) = reader.pem(tree, section, "remote", PUBLIC_KEY) {
                gateway.pinned.push(PinnedKey { identity: connection.ike().remote_identity.value.clone(), public });
            }
            if let Some((_, authority)) = reader.pem(tree, section, "remote", AUTHORITY) {
                gateway.authorities.push(authority);
            }
            gateway.connections.push(connection);
        }
        for section in root.section("secrets").map(|s| s.sections.as_slice()).unwrap_or_default() {
            gateway.secrets.extend(reader.secret(section));
        }
    }
    findings.extend(opened.finding());
    let switched = tree.files.get(SWITCHES).is_some_and(|file| file.text.contains(AGGRESSIVE_SWITCH));
    if gateway.connections.iter().any(|connection| connection.ike().exchange.value == Exchange::V1Aggressive) && !switched {
        let message = "aggressive mode with a shared secret, which the daemon refuses to answer without a switch in strongswan.conf";
        findings.push(Finding::new(&rules::DEVICE_VALUE, message));
    }
    (gateway, findings)
}

/// A setting that names a file, the folder of that, and what it holds.
type NamedFile<T> = (&'static str, &'static str, fn(&str) -> Option<T>);
const PUBLIC_KEY: NamedFile<PublicKey> = ("pubkeys", PUBLIC_KEYS, PublicKey::from_pem);
const CERTIFICATE: NamedFile<Certificate> = ("certs", CERTIFICATES, Certificate::from_pem);
const AUTHORITY: NamedFile<Certificate> = ("cacerts", AUTHORITIES, Certificate::from_pem);

/// Sections whose names have a suffix where there are several.
const ENDS: [&str; 2] = ["local", "remote"];

struct SwanctlReader<'a> {
    profile: &'a Profile,
    findings: &'a mut Vec<Finding>,
}

impl SwanctlReader<'_> {
    fn say(&mut self, rule: &'static Rule, place: &Place, message: String) {
        self.findings.push(Finding::new(rule, message).at(place.clone()));
    }

    /// Names what a section holds beside what is understood.
    fn known(&mut self, section: &SettingsSection, keys: &[&str], sections: &[&str]) {
        for (key, _) in &section.settings {
            if !keys.contains(&key.value.as_str()) {
                self.say(&rules::DEVICE_UNKNOWN, &key.place, format!("the setting `{}` is not understood", key.value));
            }
        }
        for inner in &section.sections {
            if !sections.iter().any(|name| inner.name.value == *name || ENDS.contains(name) && inner.name.value.starts_with(name)) {
                self.say(&rules::DEVICE_UNKNOWN, &inner.name.place, format!("the section `{}` is not understood", inner.name.value));
            }
        }
    }

    fn value<T>(&mut self, found: &Word, what: &str, parse: impl Fn(&str) -> Option<T>) -> Option<T> {
        let value = parse(&found.value);
        if value.is_none() {
            self.say(&rules::DEVICE_VALUE, &found.place, format!("`{}` is not {what}", found.value));
        }
        value
    }

    fn setting<T>(
        &mut self,
        section: &SettingsSection,
        key: &str,
        what: &str,
        default: T,
        parse: impl Fn(&str) -> Option<T>,
    ) -> Setting<T> {
        match section.get(key) {
            None => Setting::default_of(default),
            Some(found) => match self.value(found, what, parse) {
                Some(value) => Setting::stated(value, found.place.clone()),
                None => Setting::default_of(default),
            },
        }
    }

    fn list<T>(
        &mut self,
        section: &SettingsSection,
        key: &str,
        what: &str,
        parse: impl Fn(&str) -> Option<T>,
        default: Vec<T>,
    ) -> Setting<Vec<T>> {
        let Some(found) = section.get(key) else { return Setting::default_of(default) };
        let items = found.value.split(',').map(str::trim).filter(|item| !item.is_empty());
        let parsed: Vec<_> = items
            .filter_map(|item| {
                let item = Word { value: item.to_owned(), place: found.place.clone() };
                self.value(&item, what, &parse)
            })
            .collect();
        Setting::stated(parsed, found.place.clone())
    }

    fn endpoint(&mut self, section: &SettingsSection, key: &str) -> Option<Setting<Endpoint>> {
        let Some(found) = section.get(key) else { return Some(Setting::default_of(Endpoint::Anywhere)) };
        let one = |text: &str| match text {
            "%any" | "%any4" | "%any6" => Some(Endpoint::Anywhere),
            net if net.contains('/') => net.parse().ok().map(Endpoint::Within),
            one => Endpoint::read(one),
        };
        // A range of addresses is one that no prefix holds.
        let read = |text: &str| {
            let items = text.split(',').map(str::trim).filter(|item| !item.is_empty());
            let mut several: Vec<_> = items.map(one).collect::<Option<_>>()?;
            match several.len() {
                0 => None,
                1 => several.pop(),
                _ if several.contains(&Endpoint::Anywhere) => Some(Endpoint::Anywhere),
                _ => Some(Endpoint::OneOf(several)),
            }
        };
        let value = self.value(found, "an address or a name", read)?;
        Some(Setting::stated(value, found.place.clone()))
    }

    fn connection(&mut self, section: &SettingsSection) -> Option<Connection> {
        let profile = self.profile;
        self.known(
            section,
            &[
                "version",
                "local_addrs",
                "remote_addrs",
                "proposals",
                "rekey_time",
                "over_time",
                "dpd_delay",
                "dpd_timeout",
                "keyingtries",
                "aggressive",
                "encap",
                "if_id_in",
                "if_id_out",
                "send_cert",
            ],
            &["local", "remote", "children"],
        );
        let (local, remote) = (self.endpoint(section, "local_addrs"), self.endpoint(section, "remote_addrs"));
        let (local, remote) = (local?, remote?);
        let version = self.setting(section, "version", "an IKE version", IkeVersion::V2, |text| match text {
            "1" => Some(IkeVersion::V1),
            "2" => Some(IkeVersion::V2),
            _ => None,
        });
        let rekey = self.setting(section, "rekey_time", "a duration", default::IKE_REKEY, duration);
        let over = self.setting(section, "over_time", "a duration", rekey.value / 10, duration);
        let liveness = self.setting(section, "dpd_delay", "a duration", None, |text| Some(duration(text).filter(|d| !d.is_zero())));
        let patience = self.setting(section, "dpd_timeout", "a duration", default::V1_PATIENCE, duration);
        if let (IkeVersion::V1, Some(interval), Some(found)) = (version.value, liveness.value, section.get("dpd_timeout"))
            && patience.value != v1_patience(interval)
        {
            self.say(&rules::DEVICE_UNKNOWN, &found.place, "a timeout that is not five times the liveness interval".to_owned());
        }
        let tries = self.setting(section, "keyingtries", "a number", default::TRIES, |text| text.parse().ok());
        let ike = self.list(
            section,
            "proposals",
            "a proposal",
            move |text| proposal::read(profile, text, Protocol::Ike),
            self.profile.offers.ike(version.value),
        );
        let mut children = Vec::new();
        for child in section.section("children").map(|s| s.sections.as_slice()).unwrap_or_default() {
            children.push(self.child(child, [&local.value, &remote.value], liveness.value.is_some()));
        }
        if let Some(found) = section.get("send_cert").filter(|found| found.value != "always") {
            self.say(&rules::DEVICE_UNKNOWN, &found.place, format!("a certificate that is shown `{}` is not understood", found.value));
        }
        let [inbound, outbound] =
            ["if_id_in", "if_id_out"].map(|key| self.setting(section, key, "a number", None, |text| text.parse().ok().map(Some)));
        if inbound != outbound {
            self.say(&rules::DEVICE_UNKNOWN, &section.name.place, "different interfaces for the two directions".to_owned());
        }
        let aggressive = self.setting(section, "aggressive", "yes or no", false, yes_or_no);
        Some(Connection {
            interface: outbound,
            name: section.name.value.clone(),
            encapsulation: self.setting(section, "encap", "yes or no", Encapsulation::Automatic, |text| {
                yes_or_no(text).map(|forced| if forced { Encapsulation::Forced } else { Encapsulation::Automatic })
            }),
            keying: Keying::Ike(Box::new(Ike {
                exchange: version.map(|version| Exchange::of(version, aggressive.value)),
                mode: ReadAt(aggressive.origin.place().cloned()),
                local_method: self.method(section, "local"),
                remote_method: self.method(section, "remote"),
                local_identity: self.end(section, "local", &local.value),
                remote_identity: self.end(section, "remote", &remote.value),
                proposals: ike,
                lifetime: Setting { value: Lifetime { hard: rekey.value + over.value, margin: over.value }, origin: rekey.origin },
                liveness,
                persistent: Setting { value: tries.value == 0, origin: tries.origin },
            })),
            local,
            remote,
            children,
        })
    }

    fn method(&self, connection: &SettingsSection, which: &str) -> Setting<Method> {
        let end = connection.with_suffix(which);
        let Some(auth) = end.and_then(|end| end.get("auth")) else {
            let bare = end.is_some_and(|end| end.get("pubkeys").is_some());
            return Setting::default_of(if bare { Method::PublicKey } else { Method::Certificate });
        };
        let method = match auth.value.as_str() {
            "pubkey" if end.is_some_and(|end| end.get("pubkeys").is_some()) => Method::PublicKey,
            "pubkey" => Method::Certificate,
            _ => Method::SharedSecret,
        };
        Setting::stated(method, auth.place.clone())
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

    fn end(&mut self, connection: &SettingsSection, which: &str, at: &Endpoint) -> Setting<Identity> {
        let default = implied(at);
        let Some(end) = connection.with_suffix(which) else {
            self.say(&rules::DEVICE_VALUE, &connection.name.place, format!("the connection has no section `{which}`"));
            return Setting::default_of(default);
        };
        self.known(end, &["auth", "id", "pubkeys", "certs", "cacerts"], &[]);
        if let Some(method) = end.get("auth").filter(|method| method.value != "psk" && method.value != "pubkey") {
            self.say(&rules::DEVICE_UNKNOWN, &method.place, format!("the authentication method `{}` is not understood", method.value));
        }
        let default = match () {
            () if end.get("pubkeys").is_some() => Identity::Implied("that of its public key"),
            () if end.get("certs").is_some() => Identity::Implied("the subject of its certificate"),
            () if which == "remote" => Identity::Anybody,
            () => default,
        };
        self.setting(end, "id", "an identity", default, identity)
    }

    fn child(&mut self, section: &SettingsSection, ends: [&Endpoint; 2], liveness: bool) -> Child {
        let profile = self.profile;
        self.known(
            section,
            &[
                "local_ts",
                "remote_ts",
                "esp_proposals",
                "mode",
                "rekey_time",
                "life_time",
                "start_action",
                "dpd_action",
                "replay_window",
                "copy_dscp",
            ],
            &[],
        );
        let [local, remote] = [("local_ts", &ends[0]), ("remote_ts", &ends[1])].map(|(key, end)| {
            // `dynamic` is the address of the end itself.
            let own: Vec<(IpNet, Option<u8>)> = end.address().map(|address| (address.into(), None)).into_iter().collect();
            if section.get(key).is_none() {
                return Setting::default_of(own);
            }
            let dynamic = |text: &str| {
                let (word, limited) = text.split_once('[').map_or((text, ""), |(word, rest)| (word, rest));
                let protocol = limited.strip_suffix(']').and_then(protocol);
                (word == "dynamic").then(|| own.first().map(|(net, _)| (*net, protocol))).flatten()
            };
            self.list(section, key, "a prefix", |text| selector(text).or_else(|| dynamic(text)), Vec::new())
        });
        let mut protocols: Vec<_> = local.value.iter().chain(&remote.value).map(|(_, protocol)| *protocol).collect();
        protocols.dedup();
        if protocols.len() > 1 {
            self.say(&rules::DEVICE_UNKNOWN, &section.name.place, "selectors of several protocols are not understood".to_owned());
        }
        let prefixes = |list: Vec<(IpNet, Option<u8>)>| list.into_iter().map(|(net, _)| net).collect::<Vec<_>>();
        let rekey = self.setting(section, "rekey_time", "a duration", default::ESP_REKEY, duration);
        let life = self.setting(section, "life_time", "a duration", rekey.value + rekey.value / 10, duration);
        Child {
            name: section.name.value.clone(),
            protocol: Setting { value: protocols.first().copied().flatten(), origin: local.origin.clone() },
            local: local.map(prefixes),
            remote: remote.map(prefixes),
            pfs: ReadAt::default(),
            sequence_numbers: ReadAt::default(),
            esp: self.list(
                section,
                "esp_proposals",
                "a proposal",
                move |text| proposal::read(profile, text, Protocol::Esp),
                self.profile.offers.esp(IkeVersion::V2),
            ),
            mode: self.setting(section, "mode", "a mode", Mode::Tunnel, |text| match text {
                "tunnel" => Some(Mode::Tunnel),
                "transport" => Some(Mode::Transport),
                _ => None,
            }),
            lifetime: Setting { value: Lifetime { hard: life.value, margin: life.value.saturating_sub(rekey.value) }, origin: life.origin },
            opening: self.setting(section, "start_action", "an action", Opening::WAIT, |text| match text {
                "start" => Some(Opening::START),
                "trap|start" | "start|trap" => Some(Opening::BOTH),
                "trap" => Some(Opening::TRAP),
                "none" => Some(Opening::WAIT),
                _ => None,
            }),
            on_dead_peer: self.setting(section, "dpd_action", "an action", liveness.then_some(OnDeadPeer::Forget), |text| match text {
                "restart" | "start" => Some(Some(OnDeadPeer::Reopen)),
                "trap" => Some(Some(OnDeadPeer::AwaitTraffic)),
                "clear" | "none" => Some(Some(OnDeadPeer::Forget)),
                _ => None,
            }),
            replay_window: self.setting(section, "replay_window", "a number", default::REPLAY_WINDOW, |text| text.parse().ok()),
            dscp: self.setting(section, "copy_dscp", "a direction", Dscp::Outwards, |text| match text {
                "out" => Some(Dscp::Outwards),
                "yes" => Some(Dscp::Both),
                "no" => Some(Dscp::Never),
                _ => None,
            }),
        }
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
                identities.extend(self.value(value, "an identity", identity));
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

/// A prefix, and the protocol in brackets that it is limited to.
fn selector(text: &str) -> Option<(IpNet, Option<u8>)> {
    match text.split_once('[') {
        Some((net, limited)) => Some((prefix(net)?, Some(protocol(limited.strip_suffix(']')?)?))),
        None => Some((prefix(text)?, None)),
    }
}

/// An IP protocol by number or name (IANA protocol numbers), for any port.
fn protocol(text: &str) -> Option<u8> {
    let (name, port) = text.split_once('/').unwrap_or((text, "any"));
    let number = match name {
        "icmp" => 1,
        "tcp" => 6,
        "udp" => 17,
        "gre" => GRE,
        "esp" => 50,
        "ah" => 51,
        "ipv6-icmp" | "icmpv6" => 58,
        _ => name.parse().ok()?,
    };
    matches!(port, "any" | "0" | "%any" | "").then_some(number)
}

/// A secret as the daemon decodes it: `0x` is hexadecimal, `0s` base64, anything else is taken as it stands.
fn decode_secret(text: &str) -> Option<Secret> {
    match text.strip_prefix("0x") {
        Some(digits) => Secret::from_hex(digits),
        None if text.starts_with("0s") => Secret::from_base64(&text[2..]),
        None => Some(Secret::new(text.as_bytes().to_vec())),
    }
}

fn yes_or_no(text: &str) -> Option<bool> {
    match text {
        "yes" | "1" | "true" | "enabled" => Some(true),
        "no" | "0" | "false" | "disabled" => Some(false),
        _ => None,
    }
}

fn duration(text: &str) -> Option<Duration> {
    match text.parse::<u64>() {
        Ok(seconds) => Some(Duration::from_secs(seconds)),
        Err(_) => crate::duration::parse_duration(text),
    }
}

fn identity(text: &str) -> Option<Identity> {
    if let Ok(address) = text.parse() {
        return Some(Identity::Address(address));
    }
    Some(match text.split_once(':') {
        Some(("fqdn" | "dns", name)) => Identity::Name(name.to_owned()),
        Some(("rfc822" | "email" | "userfqdn", name)) => Identity::Mail(name.to_owned()),
        Some(("keyid", name)) => Identity::Free(name.to_owned()),
        Some(_) => return None,
        None if text.contains('=') => Identity::Subject(Subject::read(text)?),
        None if text.contains('@') => Identity::Mail(text.to_owned()),
        None => Identity::Name(text.to_owned()),
    })
}

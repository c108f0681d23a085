//! Reads ipsec.conf(5) sections and ipsec.secrets(5) files into a gateway. What is left out becomes
//! the default of 4.10. Sections that share a peer are one connection with several children, as the
//! daemon shares the IKE SA between them.

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::time::Duration;

use ipnet::IpNet;

use super::database::Database;
use super::offers::default_ah;
use super::proposal::complete;
use super::secrets::{StatedSecret, stated_secrets};
use super::syntax::{ConfSection, LoadedConf, load};
use super::{FOLDER, OWN, OWN_CERTIFICATE, OWN_PRIVATE, signatures};
use crate::network::{addresses, own_address};
use crate::profile::statement::{Counts, Field, ProtocolPort, Record, Section, Selector, Statement, is_known, name_refused, read_section};
use crate::profile::{OF_CERTIFICATE, Profile, implied, v1_patience};
use crate::text::{Word, rsa_key};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::finding::{self as rules, Finding, Rule};
use uspan_model::gateway::{
    Bearing, Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Identity, Ike, IkeVersion, KeyPair, Keying, Lifetime,
    Method, Mode, OnDeadPeer, Opening, Origin, PinnedKey, Proposal, Protocol, Setting, SharedSecret, Tree,
};
use uspan_model::key::{Certificate, PublicKey};
use uspan_model::source::Place;
use uspan_model::subject::Subject;

pub(super) fn read(profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
    let mut gateway = Gateway::default();
    let own = tree.files.get(OWN_CERTIFICATE).and_then(|file| Certificate::from_pem(&file.text));
    let LoadedConf { connections: sections, setup, mut findings } = load(tree);
    let daemon = read_section(profile, &[Section::Daemon], &setup, Counts::Last, &mut findings);
    let database = Database::read(tree);
    let mut reader = IpsecReader { profile, tree, own: own.as_ref(), database: database.as_ref(), findings: &mut findings };
    let lost = reader.refused_file(&sections, &setup);
    if lost.is_some() {
        reader.known(&sections, &setup);
    }
    let addresses: Vec<_> = addresses(tree).into_iter().map(|own| own.address.addr()).collect();
    let turned = |section: ConfSection| if names_itself_right(&section, &addresses) { section.turned() } else { section };
    for section in sections.into_iter().filter(is_used).map(turned) {
        if let Some((mut connection, keys)) = reader.connection(&section) {
            connection.remainder.take(daemon.remainder.clone());
            forget_revocation(&mut connection);
            if let Some((keyword, place)) = &lost {
                connection.remainder.add(keyword, place, Bearing::Refused);
            }
            let (pair, theirs) = reader.listed(&section, &mut connection);
            gateway.pinned.extend(theirs);
            if let Some(pair) = pair {
                // One identity has one key here.
                let is_other = |known: &KeyPair| known.identity == pair.identity && known.public != pair.public;
                if let Some(named) = section.get("leftcert").filter(|_| gateway.key_pairs.iter().any(is_other)) {
                    connection.remainder.add("leftcert", &named.place, Bearing::Authentication);
                }
                gateway.key_pairs.push(pair);
            }
            for (key, theirs) in keys {
                let identity = |connection: &Connection| match theirs {
                    false => connection.ike().local_identity.value.clone(),
                    true => connection.ike().remote_identity.value.clone(),
                };
                let identity = identity(&connection);
                match theirs {
                    false => gateway.key_pairs.push(KeyPair { identity, public: key, certificate: None, private: None }),
                    true => gateway.pinned.push(PinnedKey { identity, public: key }),
                }
            }
            gateway.take_up(connection);
        }
    }
    gateway.key_pairs.dedup();
    gateway.pinned.dedup();
    for StatedSecret { path, span, identities, secret } in stated_secrets(tree, &mut findings) {
        match secret {
            Some(secret) => gateway.secrets.push(SharedSecret::between(identities, secret)),
            None => {
                let place = Place { file: path.into(), span };
                findings.push(Finding::new(&rules::DEVICE_VALUE, "the secret cannot be decoded").at(place));
            }
        }
    }
    keys(&mut gateway, own, tree, &mut findings);
    if let Some(database) = &database {
        gateway.authorities.extend(database.authorities.iter().cloned());
    }
    let old = daemon.value::<bool>(Field::OldVersion) == Some(true);
    for connection in gateway.connections.iter_mut().filter(|connection| connection.version() == IkeVersion::V1 && !old) {
        let place = connection.ike().exchange.origin.place().or(connection.remote.origin.place()).cloned();
        let message = format!("`{}` is for IKEv1, which the daemon drops unless `ikev1-policy` accepts it", connection.name);
        let found = Finding::new(&rules::DEVICE_VALUE, message);
        findings.push(match &place {
            Some(place) => found.at(place.clone()),
            None => found,
        });
        if let Some(place) = place {
            connection.remainder.add("ikev1-policy", &place, Bearing::Refused);
        }
    }
    (gateway, findings)
}

/// Whether a section is a connection that is used. Without `auto` one waits for somebody who adds it; a policy without SAs is none.
fn is_used(section: &ConfSection) -> bool {
    let is_tunnel = section.get("type").is_none_or(|kind| !["passthrough", "reject", "drop"].contains(&&*kind.value));
    is_tunnel
        && match section.get("auto") {
            Some(auto) => auto.value != "ignore",
            None => !section.is_base && section.get("left").is_some() && section.get("right").is_some(),
        }
}

/// Whether the right end of a connection is the gateway's own: by its address, or by what only an own end can say.
fn names_itself_right(section: &ConfSection, addresses: &[IpAddr]) -> bool {
    let said = |key: &str| section.get(key).map_or("", |value| value.value.as_str());
    let is_own = |key: &str| said(key).parse().is_ok_and(|address| addresses.contains(&address));
    let [left, right] = ["left", "right"].map(said);
    match (is_own("left"), is_own("right")) {
        (false, true) => true,
        (true, _) => false,
        (false, false) => right == "%defaultroute" && left != "%defaultroute",
    }
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
        None if signing.iter().all(|connection| gateway.own_certificate(connection).is_some()) => {}
        None => findings.push(Finding::new(
            &rules::DEVICE_UNKNOWN,
            format!("its own certificate stands in the daemon's database, not at /{OWN_CERTIFICATE}"),
        )),
    }
    let others = tree.in_folder(FOLDER, ".crt").filter(|(path, _)| *path != OWN_CERTIFICATE);
    gateway.authorities.extend(others.filter_map(|(_, file)| Certificate::from_pem(&file.text)));
}

/// Whether certificates were called back matters where there are any.
fn forget_revocation(connection: &mut Connection) {
    let methods = [connection.ike().local_method.value, connection.ike().remote_method.value];
    if !methods.contains(&Method::Certificate) {
        connection.remainder.0.retain(|one| !["crl-strict", "ocsp-strict"].contains(&&*one.keyword));
    }
}

/// Keywords that the daemon leaves to its users (ipsec.conf(5)), and the one with which it calls itself a product that it is not.
fn of_users(key: &Word) -> bool {
    ["x-", "x_"].iter().any(|prefix| key.value.starts_with(prefix)) || key.value.ends_with("-unity")
}

/// Bare public keys, and whether each is the peer's.
type RawKeys = Vec<(PublicKey, bool)>;

struct IpsecReader<'a> {
    profile: &'a Profile,
    tree: &'a Tree,
    /// The gateway's certificate; nothing where there is none.
    own: Option<&'a Certificate>,
    /// What its database holds, by nickname; nothing where that was not listed.
    database: Option<&'a Database>,
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
    fn known(&mut self, sections: &[ConfSection], setup: &[(Word, Word)]) {
        let mut told = BTreeSet::new();
        const LOSES: &str = "does not take the file with it";
        name_refused(self.profile, &[Section::Daemon], setup.iter().map(|(key, _)| key).filter(|key| !of_users(key)), LOSES, self.findings);
        let keys = sections.iter().flat_map(|section| &section.settings).map(|(key, _)| key);
        let unknown = keys.filter(|key| !is_known(self.profile, &SECTIONS, key) && !of_users(key) && told.insert(&key.place));
        name_refused(self.profile, &SECTIONS, unknown, LOSES, self.findings);
    }

    /// The first statement for which the daemon refuses the whole file: a keyword that it does not know, or a word that is none of
    /// those that a keyword takes (`addconn --checkconfig` of 4.10).
    fn refused_file(&self, sections: &[ConfSection], setup: &[(Word, Word)]) -> Option<(String, Place)> {
        let wrong = |of: &[Section], key: &Word, value: &Word| {
            let Some(row) = self.profile.statements.find(of, &key.value).or_else(|| self.of_either_end(of, key)) else {
                return (!of_users(key)).then(|| (String::new(), key.place.clone()));
            };
            let is_wrong = !value.value.is_empty() && row.refuses(&value.value);
            is_wrong.then(|| (row.keyword.to_string(), value.place.clone()))
        };
        let of_setup = setup.iter().find_map(|(key, value)| wrong(&[Section::Daemon], key, value));
        of_setup.or_else(|| sections.iter().flat_map(|section| &section.settings).find_map(|(key, value)| wrong(&SECTIONS, key, value)))
    }

    /// The row of a keyword of an end that does not say which: the parser takes it, and for which end it counts is not known.
    fn of_either_end(&self, of: &[Section], key: &Word) -> Option<&Statement> {
        self.profile.statements.find(of, &["left", &key.value].concat())
    }

    /// What the keywords of a section say, without what is for users who log in.
    fn record(&mut self, section: &ConfSection) -> Record {
        let settings: Cow<'_, [_]> = match section.settings.iter().any(|(key, _)| of_users(key)) {
            true => section.settings.iter().filter(|(key, _)| !of_users(key)).cloned().collect(),
            false => Cow::Borrowed(&section.settings),
        };
        let record = read_section(self.profile, &SECTIONS, &settings, Counts::First, self.findings);
        if record.has_strangers() {
            let either = section.settings.iter().map(|(key, _)| key).filter(|key| self.of_either_end(&SECTIONS, key).is_some());
            for key in either.cloned().collect::<Vec<_>>() {
                self.say(
                    &rules::DEVICE_UNKNOWN,
                    &key.place,
                    format!("`{}` does not say of which end it is, and is not understood", key.value),
                );
            }
        }
        record
    }

    fn connection(&mut self, section: &ConfSection) -> Option<(Connection, RawKeys)> {
        let mut record = self.record(section);
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
        let [local_method, remote_method] = self.methods(&record, version.value);
        let keys = self.raw_keys(section, &mut record, [&local_method, &remote_method]);
        let has = |theirs: bool| keys.iter().any(|(_, of)| *of == theirs);
        let bare = |method: Setting<Method>, bare: bool| {
            method.map(|method| if method == Method::Certificate && bare { Method::PublicKey } else { method })
        };
        let [local_method, remote_method] = [bare(local_method, has(false)), bare(remote_method, has(true))];
        self.database(section, &mut record, [local_method.value, remote_method.value]);
        let mut proposals = record.setting_or::<Vec<Proposal>>(Field::IkeProposals, Vec::new());
        proposals.value.iter_mut().for_each(|one| complete(self.profile, one, version.value));
        // The groups of all of them, each once.
        let groups = Proposal::new(Protocol::Ike, proposals.value.iter().flat_map(|one| one.of(Kind::KeyExchange)).copied());
        let children = self.children(
            section,
            &record,
            [&local.value, &remote.value],
            (liveness.value.is_some(), groups.of(Kind::KeyExchange)),
            version.value,
        );
        let expected = if remote.value == Endpoint::Anywhere { Identity::Anybody } else { implied(&remote.value) };
        // `%any` is the end's address, where that is known (seen with 4.10).
        let named = |field, unsaid: Identity| {
            record.setting_or(field, unsaid.clone()).map(|said| if said == Identity::Anybody { unsaid } else { said })
        };
        let local_identity = named(Field::LocalIdentity, implied(&local.value));
        let remote_identity = named(Field::RemoteIdentity, expected);
        // In IKEv1 both ends have it, or none.
        if version.value == IkeVersion::V1
            && let Some(one) = record.remainder.0.iter_mut().find(|one| one.keyword == "compress")
        {
            one.bearing = Bearing::ChildSa;
        }
        let mut certification = record.certification();
        certification.issuer = self.issuer(section, &mut record);
        let connection = Connection {
            interface: record.optional::<u32>(Field::InterfaceOut).map(|id| id.filter(|id| *id > 0)),
            name: section.base.as_ref().unwrap_or(&section.name.value).clone(),
            encapsulation: record.setting_or(Field::Encapsulation, Encapsulation::Automatic),
            keying: Keying::Ike(Box::new(Ike {
                exchange: version.map(|version| Exchange::of(version, aggressive.value)),
                mode: record.read_at(Field::Aggressive),
                local_identity,
                remote_identity,
                local_method,
                remote_method,
                proposals,
                lifetime: record.setting_or(Field::IkeHardLife, Duration::ZERO).map(|hard| Lifetime { hard, margin }),
                // In IKEv2 a timeout beside the interval is ignored.
                liveness,
                persistent: record.setting_or(Field::Tries, 0u32).map(|tries| tries == 0),
                ports: record.ports(),
                certification,
            })),
            local,
            remote,
            children,
            remainder: std::mem::take(&mut record.remainder),
        };
        Some((connection, keys))
    }

    /// How the two ends prove themselves. One of several ways is enough, and a signature goes before a secret.
    fn methods(&mut self, record: &Record, version: IkeVersion) -> [Setting<Method>; 2] {
        let both = self.method(record, version);
        [Field::LocalMethod, Field::RemoteMethod].map(|field| {
            record.setting(field).unwrap_or_else(|| match record.doubt(field) {
                Some(place) => Setting::unknown(both.value, place.clone()),
                None => both.clone(),
            })
        })
    }

    fn method(&mut self, record: &Record, version: IkeVersion) -> Setting<Method> {
        let Some(said) = record.setting::<String>(Field::Proofs) else { return Setting::default_of(Method::Certificate) };
        let Some(place) = said.origin.place().cloned() else { return Setting::default_of(Method::Certificate) };
        let ways: Vec<_> = said.value.split([',', '|', '+']).map(str::trim).collect();
        if let Some(other) = ways.iter().find(|way| !PROOFS.contains(way)) {
            // What the daemon knows beside is named, and not blamed.
            let beside = ["never", "null"].iter().any(|word| other.contains(word));
            let rule = if beside { &rules::DEVICE_UNKNOWN } else { &rules::DEVICE_VALUE };
            self.say(rule, &place, format!("`{}` is not a way to prove an identity that is understood", said.value));
            return Setting::unknown(Method::Certificate, place);
        }
        let signs = ways.iter().any(|way| *way != "secret");
        if let Some(own) = self.own.filter(|_| signs)
            && !said.value.contains(signatures(own.kind()))
        {
            self.say(&rules::DEVICE_VALUE, &place, format!("`{}`, where the certificate is for another kind of key", said.value));
        }
        if version == IkeVersion::V1 && ways.iter().all(|way| way.starts_with("ecdsa")) {
            self.say(&rules::DEVICE_VALUE, &place, format!("`{}` beside `ikev2=no`: the connection is not loaded", said.value));
        }
        said.map(|_| if signs { Method::Certificate } else { Method::SharedSecret })
    }

    /// The bare keys of the two ends, where those sign, and whether each is the peer's.
    fn raw_keys(&mut self, section: &ConfSection, record: &mut Record, methods: [&Setting<Method>; 2]) -> RawKeys {
        let mut keys = Vec::new();
        for (theirs, key) in [(false, "leftrsasigkey"), (true, "rightrsasigkey")] {
            let Some(said) = section.get(key).filter(|_| methods[usize::from(theirs)].value == Method::Certificate) else { continue };
            match said.value.as_str() {
                "%cert" | "%none" => {}
                text => match rsa_key(text) {
                    Some(public) => keys.push((public, theirs)),
                    None => {
                        self.say(&rules::DEVICE_UNKNOWN, &said.place, format!("`{key}` is no key that is understood"));
                        record.remainder.add(key, &said.place, Bearing::Authentication);
                    }
                },
            }
        }
        keys
    }

    /// The certificate of a nickname, where the database was listed and both stand beside it.
    fn in_database(&self, nickname: &str, with_key: bool) -> Option<&Certificate> {
        self.database?.certificate(nickname, with_key)
    }

    /// Keys and certificates that only the daemon's database has: who believes whom follows from those.
    fn database(&mut self, section: &ConfSection, record: &mut Record, methods: [Method; 2]) {
        let signs = |end: usize| methods[end] == Method::Certificate;
        for (end, key) in [(0, "leftcert"), (1, "rightcert")] {
            let Some(named) = section.get(key).filter(|_| signs(end)) else { continue };
            let is_ours = end == 0 && named.value == OWN && self.own.is_some();
            if !is_ours && self.in_database(&named.value, end == 0).is_none() {
                let message = match self.database.is_some() {
                    true => format!("the certificate `{}` is not among those that were listed, with what it needs", named.value),
                    false => format!("the certificate `{}` stands in the daemon's database, and in no file", named.value),
                };
                self.say(&rules::DEVICE_UNKNOWN, &named.place, message);
                record.remainder.add(key, &named.place, Bearing::Authentication);
            }
        }
        if signs(0) && section.get("leftcert").is_none() && self.own.is_none() {
            let message = format!("`{}` does not say with which key this end signs", section.name.value);
            self.say(&rules::DEVICE_UNKNOWN, &section.name.place, message);
            record.remainder.add("leftcert", &section.name.place, Bearing::Authentication);
        }
    }

    /// The authority that the peer's certificate must be from. For the own end the certificate says it.
    fn issuer(&self, section: &ConfSection, record: &mut Record) -> Setting<Option<Subject>> {
        let any = Setting::default_of(None);
        let Some(database) = self.database else { return any };
        if section.get("leftcert").is_some_and(|named| database.certificate(&named.value, true).is_some()) {
            record.remainder.0.retain(|one| one.keyword != "leftca");
        }
        let Some(said) = section.get("rightca") else { return any };
        let Some(issuer) = database.issuer_of_peer(section) else { return any };
        record.remainder.0.retain(|one| one.keyword != "rightca");
        Setting::stated(issuer, said.place.clone())
    }

    /// The key pair of a connection whose certificate was listed, and the peer's key of its. An identity that the certificate is to say
    /// is that of its subject.
    fn listed(&self, section: &ConfSection, connection: &mut Connection) -> (Option<KeyPair>, Option<PinnedKey>) {
        let Keying::Ike(ike) = &mut connection.keying;
        let own = section.get("leftcert").filter(|_| ike.local_method.value == Method::Certificate);
        let own = own
            .filter(|named| named.value != OWN || self.own.is_none())
            .and_then(|named| Some((named, self.in_database(&named.value, true)?)));
        let theirs = section.get("rightcert").filter(|_| ike.remote_method.value == Method::Certificate);
        let theirs = theirs.and_then(|named| Some((named, self.in_database(&named.value, false)?)));
        for (identity, shown, key) in [(&mut ike.local_identity, own, "leftcert"), (&mut ike.remote_identity, theirs, "rightcert")] {
            let Some((named, certificate)) = shown.filter(|_| identity.value == Identity::Implied(OF_CERTIFICATE)) else { continue };
            match certificate.distinguished_name() {
                Some(subject) => identity.value = Identity::Subject(subject),
                None => connection.remainder.add(key, &named.place, Bearing::Authentication),
            }
        }
        // Whether the daemon takes it for another purpose is not known.
        for (named, _) in [own, theirs].into_iter().flatten().filter(|(_, certificate)| !certificate.is_for_ike()) {
            connection.remainder.add("leftcert", &named.place, Bearing::Authentication);
        }
        let pair = own.map(|(_, certificate)| KeyPair {
            identity: ike.local_identity.value.clone(),
            public: certificate.public(),
            certificate: Some(certificate.clone()),
            private: None,
        });
        let pinned =
            |(_, certificate): (_, &Certificate)| PinnedKey { identity: ike.remote_identity.value.clone(), public: certificate.public() };
        (pair, theirs.map(pinned))
    }

    /// The networks of an end: a list of them, one, or the end itself.
    fn networks(record: &Record, [each, one, address]: [Field; 3], known: Option<IpAddr>) -> Setting<Vec<IpNet>> {
        // Nothing stands behind an end that names no network; whose address is not known, nor is that.
        let own = known.map(IpNet::from).into_iter().collect();
        let nets = |list: Vec<Selector>| list.into_iter().filter_map(|selector| selector.net).collect();
        record.setting(each).or(record.setting(one)).map(|setting| setting.map(nets)).unwrap_or_else(|| match record.place(address) {
            Some(place) if known.is_none() => Setting::unknown(own, place.clone()),
            _ => Setting::default_of(own),
        })
    }

    /// A Child SA for each pair of networks.
    fn children(
        &mut self,
        section: &ConfSection,
        record: &Record,
        ends: [&Endpoint; 2],
        ike: (bool, &[Transform]),
        version: IkeVersion,
    ) -> Vec<Child> {
        let says_none = record.place(Field::LocalSelectors).is_none() && record.place(Field::LocalSelectorsEach).is_none();
        let known = ends[0].address().or_else(|| if says_none { own_address(self.tree, ends[1]) } else { None });
        let local = Self::networks(record, [Field::LocalSelectorsEach, Field::LocalSelectors, Field::LocalAddress], known);
        let remote = Self::networks(record, [Field::RemoteSelectorsEach, Field::RemoteSelectors, Field::RemoteAddress], ends[1].address());
        let mut whole = self.child(section, record, ike, version);
        whole.of_peer = *ends[1] == Endpoint::Anywhere && remote.value.is_empty() && remote.doubt().is_some();
        let alone = local.value.len() == 1 && remote.value.len() == 1;
        // An end that is not known yet has its networks then.
        if local.value.is_empty() || remote.value.is_empty() {
            return vec![Child { local, remote, ..whole }];
        }
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

    /// The proposals of its Child SAs: for ESP or AH, as `phase2` says; each keyword sets those of either.
    fn protection(&self, record: &Record, version: IkeVersion) -> Setting<Vec<Proposal>> {
        let ah = record.value(Field::SaProtocol) == Some(Protocol::Ah);
        let stated = |field| record.setting::<Vec<Proposal>>(field).filter(|setting| setting.origin != Origin::Default);
        match (ah, stated(Field::AhProposals), stated(Field::EspProposals)) {
            (true, Some(said), _) => said,
            (true, None, _) => match record.doubt(Field::AhProposals) {
                Some(place) => Setting::unknown(default_ah(version), place.clone()),
                None => Setting::default_of(default_ah(version)),
            },
            (false, ..) => record.setting_or(Field::EspProposals, Vec::new()),
        }
    }

    /// What the Child SAs of a connection have in common.
    fn child(&mut self, section: &ConfSection, record: &Record, (liveness, groups): (bool, &[Transform]), version: IkeVersion) -> Child {
        let [ours, theirs] = [Field::LocalProtocol, Field::RemoteProtocol].map(|field| {
            // Protocol 0 is any.
            record.optional::<ProtocolPort>(field).map(|limit| limit.filter(|limit| limit.protocol != 0))
        });
        let protocol = |limit: &Setting<Option<ProtocolPort>>| limit.value.map(|limit| limit.protocol);
        let port = |limit: &Setting<Option<ProtocolPort>>| limit.value.and_then(|limit| limit.port);
        // What one end alone says holds for both.
        let unlike = protocol(&ours).zip(protocol(&theirs)).is_some_and(|(one, other)| one != other);
        let ports = Setting { value: [port(&ours), port(&theirs)], origin: ours.origin.clone() };
        let limit = if ours.value.is_some() || ours.doubt().is_some() { &ours } else { &theirs };
        let doubt = [&ours, &theirs].into_iter().find_map(|limit| limit.doubt().cloned());
        let mut limited = limit.clone().map(|limit| limit.map(|limit| limit.protocol));
        if let Some(place) = doubt {
            limited.origin = Origin::Unknown(place);
        }
        if unlike {
            self.say(
                &rules::DEVICE_UNKNOWN,
                &section.name.place,
                "`leftprotoport` and `rightprotoport` are of two protocols, which is not understood".to_owned(),
            );
        }
        let margin: Duration = record.value(Field::IkeMargin).unwrap_or_default();
        let pfs = record.setting_or(Field::Pfs, true);
        let mut esp = self.protection(record, version);
        let numbers = record.setting_or(Field::SequenceNumbers, 0u32);
        let lengths: &[bool] = match numbers.value {
            32 => &[false],
            64 => &[true],
            // IKEv1 has them of 32 bits there, whatever is said.
            _ if version == IkeVersion::V1 => &[false],
            _ => &[true, false],
        };
        for proposal in &mut esp.value {
            complete(self.profile, proposal, version);
            match pfs.value {
                false => proposal.set(Kind::KeyExchange, []),
                // Without a group of its own PFS takes the one of the IKE SA.
                true if proposal.of(Kind::KeyExchange).is_empty() => groups.iter().for_each(|group| proposal.push(*group)),
                true => {}
            }
            proposal.set(Kind::SequenceNumbers, lengths.iter().map(|wide| Transform::sequence_numbers(*wide)));
        }
        if let Some(place) = numbers.doubt() {
            esp.origin = Origin::Unknown(place.clone());
        }
        Child {
            name: section.name.value.clone(),
            local: Setting::default_of(Vec::new()),
            remote: Setting::default_of(Vec::new()),
            protocol: limited,
            ports,
            esp,
            of_peer: false,
            narrowing: record.optional(Field::Narrowing),
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

//! Reads the starter's ipsec.conf(5) and ipsec.secrets(5) into a gateway. What is left out becomes the default of 5.9.8. Connections with
//! the same peer share their IKE SA, as the daemon does it.

use std::net::IpAddr;
use std::time::Duration;

use ipnet::IpNet;

use super::statements::{MARGIN, is_elsewhere};
use super::syntax::{LoadedStarter, StarterConnection, load};
use super::{AUTHORITIES, CERTIFICATES, SWITCHES, secrets};
use crate::network::{addresses, own_address};
use crate::profile::statement::{Counts, Field, ProtocolPort, Record, Section, Selector, is_known, read_section};
use crate::profile::{OF_CERTIFICATE, Profile, implied, v1_patience};
use crate::text::{Word, rsa_key};
use uspan_model::finding::{self as rules, Finding, Rule};
use uspan_model::gateway::{
    Bearing, Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Identity, Ike, IkeVersion, KeyPair, Keying, Lifetime,
    Method, Mode, OnDeadPeer, Opening, PinnedKey, Proposal, ReadAt, Remainder, Setting, Tree,
};
use uspan_model::key::{Certificate, PublicKey};
use uspan_model::source::Place;
use uspan_model::subject::Subject;

/// What a connection says is one section in the daemon's eyes.
const SECTIONS: [Section; 2] = [Section::Connection, Section::Child];

pub(super) fn read(profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
    let LoadedStarter { connections, setup, broken, mut findings } = load(tree);
    let mut gateway = Gateway::default();
    let daemon = read_section(profile, &[Section::Daemon], &setup, Counts::Last, &mut findings);
    let own: Vec<_> = addresses(tree).into_iter().map(|own| own.address.addr()).collect();
    let mut reader = StarterReader { profile, tree, findings: &mut findings };
    let mut of_daemon = daemon.remainder;
    reader.strange(&[Section::Daemon], &setup, &mut of_daemon);
    let issuers: Vec<_> = tree.in_folder(AUTHORITIES, "").filter_map(|(_, file)| Certificate::from_pem(&file.text)).collect();
    for stated in connections.into_iter().filter(is_used) {
        let stated = if names_itself_right(&stated, &own) { stated.turned() } else { stated };
        let (mut connection, keys) = reader.connection(&stated);
        connection.remainder.take(of_daemon.clone());
        if let Some(place) = &broken {
            connection.remainder.add("", place, Bearing::Refused);
        }
        let ike = connection.ike();
        let signs = [&ike.local_method, &ike.remote_method].map(|method| method.value != Method::SharedSecret);
        // Whether certificates were called back matters where there are any.
        let idle = |keyword: &str| keyword == "strictcrlpolicy" && signs == [false; 2] || keyword == "rightca" && !signs[1];
        connection.remainder.0.retain(|one| one.bearing == Bearing::Refused || !idle(&one.keyword));
        let (own_identity, theirs) = (connection.ike().local_identity.value.clone(), connection.ike().remote_identity.value.clone());
        if let Some(shown) = keys.own {
            let certificate = if let EndProof::Certificate(certificate) = &shown { Some(certificate.clone()) } else { None };
            gateway.key_pairs.push(KeyPair { identity: own_identity, public: shown.public(), certificate, private: None });
        }
        if let Some(shown) = keys.theirs {
            gateway.pinned.push(PinnedKey { identity: theirs, public: shown.public() });
        }
        gateway.take_up(connection);
    }
    gateway.key_pairs.dedup();
    gateway.pinned.dedup();
    gateway.authorities = issuers;
    gateway.secrets = secrets::read(tree, &mut findings).into_iter().map(|one| one.secret).collect();
    let is_aggressive = |connection: &&Connection| {
        connection.ike().exchange.value == Exchange::V1Aggressive && connection.ike().local_method.value == Method::SharedSecret
    };
    let switch = "i_dont_care_about_security_and_use_aggressive_mode_psk";
    let switched = tree.files.iter().filter(|(path, _)| SWITCHES.iter().any(|begin| path.starts_with(begin)));
    let switched = switched.flat_map(|(_, file)| file.text.lines()).any(|line| {
        let said = line.split('#').next().unwrap_or_default().split_once('=');
        said.is_some_and(|(key, value)| key.trim() == switch && ["yes", "1", "true", "enabled"].contains(&value.trim()))
    });
    if let Some(connection) = gateway.connections.iter().find(is_aggressive).filter(|_| !switched) {
        let message = format!(
            "`{}` is for aggressive mode with a shared secret, which the daemon refuses to answer without a switch in strongswan.conf",
            connection.name
        );
        findings.push(Finding::new(&rules::DEVICE_VALUE, message));
    }
    (gateway, findings)
}

/// Whether a connection is one that the starter hands to the daemon, and a tunnel.
fn is_used(stated: &StarterConnection) -> bool {
    let said = |keyword: &str| stated.get(keyword).map_or("", |value| value.value.as_str());
    !["", "ignore"].contains(&said("auto")) && !["passthrough", "pass", "drop", "reject"].contains(&said("type"))
}

/// Whether the right end of a connection is the gateway's own: it has an address of its interfaces.
fn names_itself_right(stated: &StarterConnection, own: &[IpAddr]) -> bool {
    let right = stated.get("right").map_or("", |value| value.value.as_str());
    right.split([',', ' ']).any(|one| one.parse().is_ok_and(|address| own.contains(&address)))
}

/// A certificate or a bare key that a file holds.
enum EndProof {
    Certificate(Certificate),
    Key(PublicKey),
}

impl EndProof {
    fn public(&self) -> PublicKey {
        match self {
            EndProof::Certificate(certificate) => certificate.public(),
            EndProof::Key(key) => key.clone(),
        }
    }
}

/// What the two ends prove themselves with.
struct ShownKeys {
    own: Option<EndProof>,
    theirs: Option<EndProof>,
}

/// The keywords of an end: its address, method, identity, certificate, bare key.
struct EndKeywords {
    address: Field,
    method: Field,
    identity: Field,
    certificate: (Field, &'static str),
    key: (Field, &'static str),
}

const ENDS: [EndKeywords; 2] = [
    EndKeywords {
        address: Field::LocalAddress,
        method: Field::LocalMethod,
        identity: Field::LocalIdentity,
        certificate: (Field::LocalCertificate, "leftcert"),
        key: (Field::LocalKey, "leftsigkey"),
    },
    EndKeywords {
        address: Field::RemoteAddress,
        method: Field::RemoteMethod,
        identity: Field::RemoteIdentity,
        certificate: (Field::RemoteCertificate, "rightcert"),
        key: (Field::RemoteKey, "rightsigkey"),
    },
];

struct StarterReader<'a> {
    profile: &'a Profile,
    tree: &'a Tree,
    findings: &'a mut Vec<Finding>,
}

impl StarterReader<'_> {
    fn say(&mut self, rule: &'static Rule, place: &Place, message: String) {
        self.findings.push(Finding::new(rule, message).at(place.clone()));
    }

    /// Names what has no row there. A keyword that the daemon does not know it passes over; for one of another section it refuses this one.
    fn strange(&mut self, sections: &[Section], settings: &[(Word, Word)], remainder: &mut Remainder) {
        remainder.0.retain(|one| !one.keyword.is_empty());
        for (keyword, _) in settings.iter().filter(|(keyword, _)| !is_known(self.profile, sections, keyword)) {
            if is_elsewhere(self.profile, &keyword.value) {
                let message =
                    format!("`{}` is a setting of another section of {}, which refuses this one", keyword.value, self.profile.title);
                self.say(&rules::DEVICE_VALUE, &keyword.place, message);
                remainder.add(&keyword.value, &keyword.place, Bearing::Refused);
            } else {
                let message = format!("`{}` is no setting of {}, which passes it over", keyword.value, self.profile.title);
                self.say(&rules::DEVICE_UNKNOWN, &keyword.place, message);
            }
        }
    }

    fn connection(&mut self, stated: &StarterConnection) -> (Connection, ShownKeys) {
        let mut record = read_section(self.profile, &SECTIONS, &stated.settings, Counts::Last, self.findings);
        let mut remainder = std::mem::take(&mut record.remainder);
        self.strange(&SECTIONS, &stated.settings, &mut remainder);
        record.remainder = remainder;
        if let (Some((_, both)), Some(_)) = (stated.settings.iter().find(|(keyword, _)| keyword.value == "ah"), stated.get("esp")) {
            self.say(&rules::DEVICE_VALUE, &both.place, "`ah` beside `esp`, for which the daemon does not take the connection".to_owned());
            record.remainder.add("ah", &both.place, Bearing::Refused);
        }
        let whole = &stated.name.place;
        let [local, remote] = ENDS.map(|end| record.setting_or(end.address, Endpoint::Anywhere));
        let version = record.setting_or(Field::Version, IkeVersion::V2);
        let aggressive = record.setting_or(Field::Aggressive, false);
        let margin: Duration = record.value(Field::IkeMargin).unwrap_or(MARGIN);
        // Without an action nobody is asked.
        let watches = stated.get("dpdaction").is_some_and(|action| action.value != "none");
        let liveness =
            record.setting_or(Field::Liveness, Duration::ZERO).map(|interval| Some(interval).filter(|one| watches && !one.is_zero()));
        if version.value == IkeVersion::V1
            && liveness.value.is_some_and(|interval| record.value(Field::Patience) != Some(v1_patience(interval)))
        {
            self.say(&rules::DEVICE_UNKNOWN, whole, "`dpdtimeout` is not five times `dpddelay`".to_owned());
        }
        let [(local_method, local_identity, own), (remote_method, remote_identity, theirs)] =
            [0, 1].map(|end| self.proof(stated, &mut record, end, [&local.value, &remote.value][end]));
        let children = vec![self.child(stated, &mut record, [&local.value, &remote.value], liveness.value.is_some(), margin)];
        let mut certification = record.certification();
        let wanted = stated.get("rightca").and_then(|said| Some((Subject::read(&said.value)?, said)));
        if let Some((issuer, said)) = wanted {
            certification.issuer = Setting::stated(Some(issuer), said.place.clone());
            record.remainder.0.retain(|one| one.keyword != "rightca");
        }
        let connection = Connection {
            interface: Setting::default_of(None),
            name: stated.name.value.clone(),
            encapsulation: record.setting_or(Field::Encapsulation, Encapsulation::Automatic),
            keying: Keying::Ike(Box::new(Ike {
                exchange: version.map(|version| Exchange::of(version, aggressive.value)),
                mode: record.read_at(Field::Aggressive),
                local_method,
                remote_method,
                local_identity,
                remote_identity,
                proposals: record.setting_or::<Vec<Proposal>>(Field::IkeProposals, Vec::new()),
                lifetime: record.setting_or(Field::IkeHardLife, Duration::ZERO).map(|hard| Lifetime { hard, margin }),
                liveness,
                persistent: record.setting_or(Field::Tries, 3u32).map(|tries| tries == 0),
                ports: record.ports(),
                certification,
            })),
            local,
            remote,
            children,
            remainder: std::mem::take(&mut record.remainder),
        };
        (connection, ShownKeys { own, theirs })
    }

    /// How an end proves itself, who it is, and with what.
    fn proof(
        &mut self,
        stated: &StarterConnection,
        record: &mut Record,
        end: usize,
        at: &Endpoint,
    ) -> (Setting<Method>, Setting<Identity>, Option<EndProof>) {
        let keywords = &ENDS[end];
        // What either end says by itself goes before what is said for both.
        let each = ENDS.iter().any(|end| record.place(end.method).is_some() || record.doubt(end.method).is_some());
        let both = record.setting_or(Field::Proofs, Method::Certificate);
        let mut method = if each { record.setting_or(keywords.method, Method::Certificate) } else { both };
        let unsaid = if *at == Endpoint::Anywhere && end == 1 { Identity::Anybody } else { implied(at) };
        let mut identity = record.setting_or(keywords.identity, unsaid.clone());
        if identity.value == Identity::Anybody && end == 0 {
            identity.value = implied(at);
        }
        if method.value == Method::SharedSecret {
            return (method, identity, None);
        }
        let shown = self.shown(stated, record, keywords);
        match &shown {
            // An identity that the certificate does not have is not used.
            Some(EndProof::Certificate(certificate)) if !certificate.names(&identity.value) => {
                identity.value = certificate.distinguished_name().map_or(Identity::Implied(OF_CERTIFICATE), Identity::Subject);
            }
            Some(EndProof::Certificate(_)) => {}
            Some(EndProof::Key(_)) => method.value = Method::PublicKey,
            None if end == 0 => {
                let (keyword, named) = (keywords.certificate.1, record.place(keywords.certificate.0).cloned());
                if named.is_none() {
                    let message =
                        "it does not say with which certificate this end proves itself: the daemon takes one that fits".to_owned();
                    self.say(&rules::DEVICE_UNKNOWN, &stated.name.place, message);
                }
                record.remainder.add(keyword, &named.unwrap_or_else(|| stated.name.place.clone()), Bearing::Authentication);
                identity.value = Identity::Implied(OF_CERTIFICATE);
            }
            None => {}
        }
        (method, identity, shown)
    }

    /// The certificate or bare key that an end names.
    fn shown(&mut self, stated: &StarterConnection, record: &mut Record, keywords: &EndKeywords) -> Option<EndProof> {
        let file = |tree: &Tree, name: &str| {
            let path = name.strip_prefix('/').map_or_else(|| format!("{CERTIFICATES}/{name}"), str::to_owned);
            tree.files.get(&path).map(|file| file.text.clone())
        };
        let take =
            |text: &str| Certificate::from_pem(text).map(EndProof::Certificate).or_else(|| PublicKey::from_pem(text).map(EndProof::Key));
        for (field, keyword) in [keywords.certificate, keywords.key] {
            let Some(named) = stated.get(keyword).filter(|named| record.value::<String>(field).is_some() && named.value != "%cert") else {
                continue;
            };
            let bare = keyword == keywords.key.1;
            let found = match named.value.strip_prefix("dns:").filter(|_| bare) {
                Some(key) => rsa_key(key).map(EndProof::Key),
                None => file(self.tree, &named.value).and_then(|text| take(&text)),
            };
            if found.is_some() {
                return found;
            }
            let (rule, message) = match bare && named.value.contains(':') || named.value.starts_with(['%', '0']) {
                true => (&rules::DEVICE_UNKNOWN, format!("`{keyword}` is no key or certificate that is understood")),
                false => (
                    &rules::DEVICE_FILE_MISSING,
                    format!("`{}` is no file in /{CERTIFICATES} of the kind that `{keyword}` names", named.value),
                ),
            };
            self.say(rule, &named.place, message);
            record.remainder.add(keyword, &named.place, Bearing::Authentication);
        }
        None
    }

    fn child(&mut self, stated: &StarterConnection, record: &mut Record, ends: [&Endpoint; 2], liveness: bool, margin: Duration) -> Child {
        let fields = [(Field::LocalSelectors, Field::LocalProtocol), (Field::RemoteSelectors, Field::RemoteProtocol)];
        let whole = &stated.name.place;
        let mut limits: Vec<[(Option<u8>, Option<u16>); 1]> = Vec::new();
        let mut ports = [None, None];
        let [local, remote] = [0, 1].map(|end| {
            let (field, protocol) = fields[end];
            let mut nets = record.setting_or::<Vec<Selector>>(field, Vec::new());
            let limit = record.value::<ProtocolPort>(protocol);
            // A network that says nothing of it has the limit of its end.
            let limited = |one: &Selector| match (one.protocol.or(one.port.map(|_| 0)), &limit) {
                (None, Some(limit)) => (Some(limit.protocol).filter(|protocol| *protocol != 0), limit.port),
                _ => (one.protocol, one.port),
            };
            limits.extend(nets.value.iter().map(|one| [(limited(one).0, None)]));
            let mut own_ports: Vec<_> = nets.value.iter().map(|one| limited(one).1).collect();
            own_ports.dedup();
            if own_ports.len() > 1 {
                limits.push([(None, Some(0))]);
            }
            ports[end] = own_ports.first().copied().flatten();
            let own = ends[end].address().or_else(|| if end == 0 { own_address(self.tree, ends[1]) } else { None }).map(IpNet::from);
            if own.is_none() && nets.value.iter().any(|one| one.net.is_none()) {
                let place = nets.origin.place().unwrap_or(whole).clone();
                self.say(&rules::DEVICE_UNKNOWN, &place, "what it carries is the address of an end that the files do not show".to_owned());
                nets = Setting::unknown(nets.value, place);
            }
            if let Some(place) = record.doubt(protocol) {
                nets = Setting::unknown(nets.value, place.clone());
            }
            nets.map(|list| list.into_iter().filter_map(|one| one.net.or(own)).collect::<Vec<IpNet>>())
        });
        limits.dedup();
        if limits.len() > 1 {
            self.say(&rules::DEVICE_UNKNOWN, whole, "selectors of several protocols or ports are not understood".to_owned());
            record.remainder.add("leftsubnet", whole, Bearing::ChildSa);
        }
        let protocol = limits.first().and_then(|[(protocol, _)]| *protocol);
        let esp = match record.setting::<Vec<Proposal>>(Field::AhProposals) {
            Some(ah) => ah,
            None => match record.doubt(Field::AhProposals) {
                Some(place) => Setting::unknown(Vec::new(), place.clone()),
                None => record.setting_or(Field::EspProposals, Vec::new()),
            },
        };
        let of_peer = *ends[1] == Endpoint::Anywhere && remote.value.is_empty() && remote.doubt().is_some();
        Child {
            name: stated.name.value.clone(),
            protocol: Setting { value: protocol, origin: local.origin.clone() },
            ports: Setting { value: ports, origin: local.origin.clone() },
            local,
            remote,
            pfs: ReadAt::default(),
            sequence_numbers: ReadAt::default(),
            of_peer,
            narrowing: Setting::default_of(None),
            esp,
            mode: record.setting_or(Field::Mode, Mode::Tunnel),
            lifetime: record.setting_or(Field::EspHardLife, Duration::ZERO).map(|hard| Lifetime { hard, margin }),
            opening: record.setting_or(Field::Opening, Opening::WAIT),
            on_dead_peer: record.optional::<OnDeadPeer>(Field::OnDeadPeer).map(|action| action.filter(|_| liveness)),
            replay_window: record.setting_or(Field::ReplayWindow, 32u32),
            dscp: Setting::default_of(Dscp::Outwards),
        }
    }
}

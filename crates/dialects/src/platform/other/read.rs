//! Reads lists of parameters: ours, and those that somebody changed by hand.

use std::time::Duration;

use ipnet::IpNet;

use super::{FOLDER, FROM_HAND_TO_HAND};
use crate::dialect::PARAMETERS;
use crate::profile::Profile;
use crate::profile::statement::{Counts, Field, ProtocolPort, Record, Section, Selector, name_unknown, read_section};
use crate::text::Word;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{
    Bearing, Certification, Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Identity, Ike, IkeVersion, Keying,
    Lifetime, Method, Mode, Opening, Proposal, ReadAt, Remainder, Setting, Tree, usual_ports,
};
use uspan_model::source::{Place, Source};

/// A heading, and the parameters below it.
struct ListSection {
    name: Word,
    is_tunnel: bool,
    settings: Vec<(Word, Word)>,
}

pub(super) fn read(profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
    let (mut gateway, mut findings) = (Gateway::default(), Vec::new());
    for (path, file) in tree.in_folder(FOLDER, ".txt") {
        let source = Source::new(path, file.text.as_str());
        let mut reader = ListReader { profile, findings: &mut findings };
        for section in reader.sections(&source) {
            if section.is_tunnel {
                gateway.connections.extend(reader.connection(&section));
            } else {
                let (child, remainder) = reader.child(&section);
                match gateway.connections.last_mut() {
                    Some(connection) => {
                        connection.remainder.take(remainder);
                        connection.children.push(child);
                    }
                    None => reader.say(&section.name.place, "an SA stands before any tunnel"),
                }
            }
        }
    }
    (gateway, findings)
}

struct ListReader<'a> {
    profile: &'a Profile,
    findings: &'a mut Vec<Finding>,
}

impl ListReader<'_> {
    fn say(&mut self, place: &Place, message: &str) {
        self.findings.push(Finding::new(&rules::DEVICE_SYNTAX, message).at(place.clone()));
    }

    fn sections(&mut self, source: &Source) -> Vec<ListSection> {
        let mut sections: Vec<ListSection> = Vec::new();
        for (line, span) in PARAMETERS.statements(source) {
            let place = source.place(span);
            if line.is_empty() || line.starts_with(PARAMETERS.comment) {
                continue;
            }
            if let Some(heading) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
                match heading.split_once(' ') {
                    Some((kind @ ("tunnel" | "SA"), name)) => {
                        let name = Word { value: name.trim().to_owned(), place };
                        sections.push(ListSection { name, is_tunnel: kind == "tunnel", settings: Vec::new() });
                    }
                    _ => self.say(&place, "a heading is `[tunnel NAME]` or `[SA NAME]`"),
                }
                continue;
            }
            match (line.split_once(':'), sections.last_mut()) {
                (Some((keyword, value)), Some(section)) => {
                    let word = |text: &str| Word { value: text.trim().to_owned(), place: place.clone() };
                    section.settings.push((word(keyword), word(value)));
                }
                (None, _) => self.say(&place, "a parameter has a colon behind its name"),
                (_, None) => self.say(&place, "a parameter stands before any heading"),
            }
        }
        sections
    }

    fn record(&mut self, kind: Section, section: &ListSection) -> Record {
        name_unknown(self.profile, &[kind], section.settings.iter().map(|(keyword, _)| keyword), self.findings);
        read_section(self.profile, &[kind], &section.settings, Counts::Last, self.findings)
    }

    fn connection(&mut self, section: &ListSection) -> Option<Connection> {
        let mut record = self.record(Section::Connection, section);
        let mut remainder = std::mem::take(&mut record.remainder);
        let (Some(local), Some(remote)) = (record.setting::<Endpoint>(Field::LocalAddress), record.setting(Field::RemoteAddress)) else {
            self.say(&section.name.place, "the tunnel lacks the address of a gateway");
            return None;
        };
        remainder.add(FROM_HAND_TO_HAND, &section.name.place, Bearing::Authentication);
        let unsaid = |field| record.place(field).is_none() && record.doubt(field).is_none();
        for field in [Field::LocalIdentity, Field::RemoteIdentity, Field::LocalMethod, Field::Version, Field::IkeProposals] {
            // What a list leaves out nobody knows.
            if unsaid(field) {
                remainder.add("", &section.name.place, Bearing::Unknown);
            }
        }
        let hard = record.setting_or(Field::IkeHardLife, Duration::ZERO);
        let soft: Duration = record.value(Field::IkeSoftLife).unwrap_or(hard.value);
        let method = record.setting_or(Field::LocalMethod, Method::SharedSecret);
        let aggressive: bool = record.value(Field::Aggressive).unwrap_or_default();
        let identity = |field| record.setting_or(field, Identity::Anybody);
        Some(Connection {
            name: section.name.value.clone(),
            encapsulation: record.setting_or(Field::Encapsulation, Encapsulation::Automatic),
            keying: Keying::Ike(Box::new(Ike {
                exchange: record.setting_or(Field::Version, IkeVersion::V2).map(|version| Exchange::of(version, aggressive)),
                mode: record.read_at(Field::Aggressive),
                local_identity: identity(Field::LocalIdentity),
                remote_identity: identity(Field::RemoteIdentity),
                local_method: method.clone(),
                remote_method: method,
                proposals: record.setting_or::<Vec<Proposal>>(Field::IkeProposals, Vec::new()),
                lifetime: hard.map(|hard| Lifetime { hard, margin: hard.saturating_sub(soft) }),
                liveness: record.optional(Field::Liveness),
                ports: usual_ports(),
                certification: Certification::default(),
                persistent: record.setting_or(Field::Tries, 1u32).map(|tries| tries == 0),
            })),
            interface: record.optional(Field::InterfaceOut),
            local,
            remote,
            children: Vec::new(),
            remainder,
        })
    }

    fn child(&mut self, section: &ListSection) -> (Child, Remainder) {
        let mut record = self.record(Section::Child, section);
        let mut remainder = std::mem::take(&mut record.remainder);
        let nets = |list: Vec<Selector>| list.into_iter().filter_map(|selector| selector.net).collect::<Vec<IpNet>>();
        let networks = |field| record.setting_or::<Vec<Selector>>(field, Vec::new()).map(nets);
        for field in [Field::LocalSelectors, Field::RemoteSelectors, Field::EspProposals] {
            if record.place(field).is_none() && record.doubt(field).is_none() {
                remainder.add("", &section.name.place, Bearing::ChildSa);
            }
        }
        let hard = record.setting_or(Field::EspHardLife, Duration::ZERO);
        let soft: Duration = record.value(Field::EspSoftLife).unwrap_or(hard.value);
        let child = Child {
            name: section.name.value.clone(),
            local: networks(Field::LocalSelectors),
            remote: networks(Field::RemoteSelectors),
            protocol: record.optional::<ProtocolPort>(Field::LocalProtocol).map(|limit| limit.map(|limit| limit.protocol)),
            ports: record.optional::<ProtocolPort>(Field::LocalProtocol).map(|local| {
                let remote = record.value::<ProtocolPort>(Field::RemoteProtocol);
                [local, remote].map(|limit| limit.and_then(|limit| limit.port))
            }),
            of_peer: false,
            narrowing: Setting::default_of(None),
            pfs: ReadAt::default(),
            esp: record.setting_or(Field::EspProposals, Vec::new()),
            mode: record.setting_or(Field::Mode, Mode::Tunnel),
            lifetime: hard.map(|hard| Lifetime { hard, margin: hard.saturating_sub(soft) }),
            opening: record.setting_or(Field::Opening, Opening::WAIT),
            on_dead_peer: record.optional(Field::OnDeadPeer),
            replay_window: record.setting_or(Field::ReplayWindow, 0u32),
            sequence_numbers: ReadAt::default(),
            dscp: record.setting_or(Field::Dscp, Dscp::Outwards),
        };
        (child, remainder)
    }
}

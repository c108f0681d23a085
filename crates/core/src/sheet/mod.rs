//! The parameter sheet of a tunnel: what everybody starts from and signs off at the end.
//!
//! The facts of both ends side by side; each parameter in neutral words, as the IANA registries name it and as each platform
//! spells it, with the reasons; and what goes from hand to hand outside of it all.

mod fill;
mod form;
mod handover;
mod refilled;
mod rows;

pub use fill::fill;
pub use form::{Form, FormField, form};
pub use handover::{Handover, fingerprint};
pub use refilled::{FilledIn, Refilled};

use crate::build::{Build, BuiltTunnel};
use uspan_description::check::Supplied;
use uspan_description::description::{Description, Site, Tunnel};
use uspan_dialects::profile::OwnEnd;
use uspan_judge::actor::{Actor, ReadGateway};
use uspan_judge::compare::compare_ends;
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{IkeVersion, Passing, Proposal, Protocol};
use uspan_model::parameter::Parameter;
use uspan_model::source::Place;

/// A tunnel's sheet.
#[derive(Clone, Debug)]
pub struct Sheet {
    /// Its name.
    pub tunnel: String,
    /// The sites of its two ends.
    pub ends: [String; 2],
    /// What people call them.
    pub titles: [String; 2],
    /// What each end is.
    pub facts: Vec<Fact>,
    /// What both agree on.
    pub agreed: Vec<Agreed>,
    /// What was considered and dropped: the value, and why.
    pub dropped: Vec<(String, String)>,
    /// What is given to the other party outside of this sheet.
    pub handovers: Vec<Handover>,
}

/// A fact of each end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fact {
    /// What it is.
    pub what: &'static str,
    /// The values; a line each.
    pub values: [Vec<String>; 2],
}

/// Something that both ends agree on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Agreed {
    /// What it is.
    pub what: String,
    /// The Child SAs that it is of, where there are several.
    pub children: Vec<String>,
    /// In neutral words: a line each.
    pub value: Vec<AgreedValue>,
    /// How each platform spells it, and where; nothing where it follows from several lines, or from none.
    pub written: [Option<(String, Place)>; 2],
    /// Whether it is said nowhere at an end, so that its platform's default holds.
    pub by_default: [bool; 2],
    /// Why, as far as it is not about one of the values.
    pub why: Vec<String>,
}

/// A value that was agreed on.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AgreedValue {
    /// In neutral words.
    pub words: String,
    /// As the IANA registries name it, where they do.
    pub registry: Option<String>,
    /// Why this one.
    pub why: Option<String>,
}

/// The sheet of a tunnel that was built.
pub fn sheet(description: &Description, built: &BuiltTunnel, build: &Build, supplied: &Supplied) -> Option<Sheet> {
    let tunnel = description.tunnels.iter().find(|tunnel| tunnel.name.value == built.name)?;
    let ends = description.ends(tunnel);
    Some(Sheet {
        tunnel: built.name.clone(),
        ends: built.ends.clone(),
        titles: ends.map(|end| end.title().to_owned()),
        facts: facts(ends, tunnel, built),
        agreed: agreed(ends, built, build),
        dropped: built
            .agreement
            .reasons
            .iter()
            .filter(|reason| !reason.taken)
            .map(|reason| (reason.value.clone(), reason.why.clone()))
            .collect(),
        handovers: handover::handovers(description, tunnel, supplied),
    })
}

fn facts(ends: [&Site; 2], tunnel: &Tunnel, built: &BuiltTunnel) -> Vec<Fact> {
    let mut facts = Vec::new();
    let mut each = |what: &'static str, values: [Vec<String>; 2]| {
        if values.iter().any(|value| !value.is_empty()) {
            facts.push(Fact { what, values });
        }
    };
    let of = |value: &dyn Fn(&Site) -> Vec<String>| ends.map(value);
    // What stands around the daemon of others is theirs.
    let of_ours = |value: &dyn Fn(&Site) -> Vec<String>| {
        ends.map(|site| if site.platform.value.is_run_by_others() { Vec::new() } else { value(site) })
    };
    each("platform", of(&|site| vec![site.platform.value.title.to_string()]));
    each("packet filter", of_ours(&|site| vec![site.packet_filter.title().to_owned()]));
    each("public address", of(&|site| vec![site.address.value.to_string()]));
    each("own address behind NAT", of(&|site| site.own_address.iter().map(|own| own.value.to_string()).collect()));
    each("identity", of(&|site| vec![site.identity().words()]));
    each("outside interface", of(&|site| Some(site.outside.value.clone()).filter(|name| !name.is_empty()).into_iter().collect()));
    each("inside interfaces", of(&|site| site.inside.iter().map(|name| name.value.clone()).collect()));
    let appears = |end: usize| {
        let gateway = &built.gateways[end];
        let mut lines: Vec<String> = Vec::new();
        for (apparent, remote) in gateway.crossing() {
            let inner = gateway.inner(apparent, remote);
            let named = ends[end].networks.iter().find(|network| network.prefix.value == inner);
            let name = named.map_or_else(String::new, |network| format!("{} ", network.name.value));
            let line = if inner == apparent { format!("{name}{inner}") } else { format!("{name}{inner}, seen as {apparent}") };
            if !lines.contains(&line) {
                lines.push(line);
            }
        }
        lines
    };
    let networks = match tunnel.hosts {
        Some(_) => [vec!["the gateway itself".to_owned()], vec!["the gateway itself".to_owned()]],
        None => [appears(0), appears(1)],
    };
    each("networks", networks);
    each("not reached through it", [0, 1].map(|end| built.unreached[end].iter().map(|(name, net)| format!("{name} {net}")).collect()));
    if !built.uncarried.is_empty() {
        each("what it does not carry", [0, 1].map(|end| vec![built.fate_of_uncarried(end).to_owned()]));
    }
    each(
        "hosts may open",
        [0, 1].map(|end| match built.gateways[end].hosts_may_open() {
            Passing::All => vec!["everything".to_owned()],
            only => vec![only.to_string()],
        }),
    );
    each(
        "tunnel interface",
        [0, 1].map(|end| {
            let interface = built.gateways[end].interfaces.first();
            interface.map(|interface| vec![format!("{}, packets of {} bytes", interface.name, interface.mtu)]).unwrap_or_default()
        }),
    );
    each(
        "tunnel addresses",
        [0, 1]
            .map(|end| built.gateways[end].interfaces.iter().flat_map(|interface| &interface.addresses).map(ToString::to_string).collect()),
    );
    each(
        "autonomous system",
        [0, 1].map(|end| built.gateways[end].sessions.first().map(|session| vec![session.own_as.to_string()]).unwrap_or_default()),
    );
    each("translates for the internet", of_ours(&|site| vec![if site.shares_internet { "yes" } else { "no" }.to_owned()]));
    facts
}

fn agreed(ends: [&Site; 2], built: &BuiltTunnel, build: &Build) -> Vec<Agreed> {
    let actor = |end: usize| {
        let profile = &ends[end].platform.value;
        let reading = ReadGateway {
            name: &built.ends[end],
            gateway: &built.gateways[end],
            ends_open: profile.own_end == OwnEnd::ByAddress,
            tree: build.trees.get(&built.ends[end]),
        };
        Actor { reading, behaviour: &profile.behaviour, stands: ends[end].stands() }
    };
    let comparison = compare_ends(actor(0), actor(1));
    let all = built.gateways[0].connections.iter().map(|connection| connection.children.len()).sum::<usize>();
    let mut agreed: Vec<Agreed> = Vec::new();
    for (parameter, children) in comparison.pairs.iter().flat_map(|pair| pair.told()) {
        // What each end is stands among the facts; that a secret is the same on both ends goes without saying here.
        if [Parameter::Address, Parameter::Identity, Parameter::SharedSecret].contains(&parameter.parameter) {
            continue;
        }
        if ends.iter().any(|site| site.platform.value.is_run_by_others()) && parameter.parameter.is_around_the_daemon() {
            continue;
        }
        // Both ends prove themselves in the same way.
        let proof = parameter.parameter == Parameter::Authentication;
        let what = if proof { parameter.parameter.words() } else { &parameter.name };
        let mut lines: Vec<String> = parameter.values[0].value.lines().map(str::to_owned).collect();
        if parameter.values[0].value != parameter.values[1].value {
            lines = (0..2).map(|end| format!("{}: {}", built.ends[end], parameter.values[end].value.replace('\n', ", "))).collect();
        }
        if agreed.iter().any(|known| known.what == what && proof && known.value.iter().map(|value| &value.words).eq(&lines)) {
            continue;
        }
        let registry: Vec<String> = match parameter.parameter {
            Parameter::IkeProposals => {
                built.agreement.ike.iter().map(|proposal| proposal_words(proposal, built.agreement.exchange.version())).collect()
            }
            Parameter::EspProposals => {
                built.agreement.esp.iter().map(|proposal| proposal_words(proposal, built.agreement.exchange.version())).collect()
            }
            Parameter::Pfs => {
                built.agreement.esp.first().and_then(|proposal| proposal.first(Kind::KeyExchange)).map(registered).into_iter().collect()
            }
            _ => Vec::new(),
        };
        let reasons = || built.agreement.reasons.iter().filter(|reason| reason.taken && reason.about == parameter.parameter);
        let of_line = |line: &str| reasons().find(|reason| reason.value == line).map(|reason| reason.why.clone());
        let value: Vec<AgreedValue> = (lines.iter().enumerate())
            .map(|(i, line)| AgreedValue { words: line.clone(), registry: registry.get(i).cloned(), why: of_line(line) })
            .collect();
        let why = reasons().filter(|reason| !lines.contains(&reason.value)).map(|reason| reason.why.clone());
        agreed.push(Agreed {
            what: what.to_owned(),
            // What holds for all goes without names.
            children: if children.len() == all { Vec::new() } else { children.into_iter().map(str::to_owned).collect() },
            why: why.collect(),
            by_default: parameter.values.each_ref().map(|shown| shown.is_default),
            value,
            written: parameter.values.each_ref().map(|shown| Some((shown.spelling.clone()?, shown.place.clone()?))),
        });
    }
    // What is said of several Child SAs in turn stands together.
    let first = |agreed: &Agreed, all: &[String]| all.iter().position(|what| *what == agreed.what);
    let order: Vec<String> = agreed.iter().map(|agreed| agreed.what.clone()).collect();
    agreed.sort_by_key(|agreed| first(agreed, &order));
    agreed
}

/// A transform with its name and number in the registry.
fn registered(algorithm: Transform) -> String {
    let name = algorithm.row().map_or_else(|| algorithm.kind.word().to_owned(), |row| row.iana.to_owned());
    with_length(&name, algorithm.number, algorithm.key_bits)
}

fn with_length(name: &str, number: u16, key_bits: u16) -> String {
    match key_bits {
        0 => format!("{name} ({number})"),
        bits => format!("{name} ({number}), {bits} bits"),
    }
}

/// The same in the registries of a version of the key exchange.
fn registered_in(version: IkeVersion, algorithm: Transform, for_ike: bool) -> String {
    match algorithm.registered_in_v1(for_ike).filter(|_| version == IkeVersion::V1) {
        Some((name, number)) => with_length(name, number, algorithm.key_bits),
        None => registered(algorithm),
    }
}

/// A proposal by its transforms. In IKEv1 the hash stands for integrity and PRF; the group of PFS stands for itself.
fn proposal_words(proposal: &Proposal, version: IkeVersion) -> String {
    let mut words = Vec::new();
    for kind in [Kind::Encryption, Kind::Integrity, Kind::Prf, Kind::KeyExchange] {
        let beside = match kind {
            Kind::Prf => version == IkeVersion::V1,
            Kind::KeyExchange => proposal.protocol != Protocol::Ike,
            _ => false,
        };
        let list = proposal.of(kind);
        if !list.is_empty() && !beside {
            words.push(
                list.iter().map(|one| registered_in(version, *one, proposal.protocol == Protocol::Ike)).collect::<Vec<_>>().join(" or "),
            );
        }
    }
    words.join("; ")
}

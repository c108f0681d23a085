//! Two gateways as their files say become one description.
//!
//! Nothing is papered over: where the two ends disagree, one value is taken and the other one is told; what the files do not
//! show is told too.

mod divide;
mod leaving;
mod lost;
mod site;
mod tunnel;

use std::collections::BTreeMap;
use std::collections::HashMap;

use ipnet::IpNet;
use toml_edit::{DocumentMut, InlineTable, Item, Table, Value};

pub use leaving::{Defined, Leaving, LeavingPart, defined, leaving, stop};
use site::SiteWriter;

use uspan_description::description::{EVERYTHING, is_name};
use uspan_dialects::profile::{Liveness, Profile, ReplayWindow};
use uspan_judge::actor::{Actor, ReadGateway};
use uspan_judge::compare::{ComparedParameter, Gravity, Shown, compare_ends};
use uspan_model::gateway::KnownAddresses;
use uspan_model::gateway::{Connection, Gateway};
use uspan_model::pairing::Pairing;
use uspan_model::parameter::Parameter;
use uspan_model::secret::Secret;
use uspan_model::source::{Place, misleads};

/// A gateway to be adopted.
#[derive(Clone, Copy, Debug)]
pub struct Adoptee<'a> {
    /// As it was read.
    pub reading: ReadGateway<'a>,
    /// Its platform.
    pub facts: &'a Profile,
}

/// Something to be told beside the description.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Note {
    /// The tunnel that it is about; nothing where it is about a gateway.
    pub tunnel: Option<String>,
    /// What it is about.
    pub about: String,
    /// What is to be told.
    pub text: String,
    /// Where it stands at each end.
    pub places: [Option<Place>; 2],
    /// What it comes to.
    pub kind: NoteKind,
}

/// What a note comes to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoteKind {
    /// It is to be known.
    Told,
    /// A statement of the files that the description does not say; the tunnel is the same without it.
    LeftOut,
    /// The two ends disagree so that the tunnel does not work.
    Disagrees,
    /// The description cannot say it, and would make another tunnel.
    AnotherTunnel,
}

impl NoteKind {
    /// A stable word.
    pub fn word(self) -> &'static str {
        match self {
            NoteKind::Told => "told",
            NoteKind::LeftOut => "left-out",
            NoteKind::Disagrees => "disagrees",
            NoteKind::AnotherTunnel => "another-tunnel",
        }
    }
}

/// What came of it.
#[derive(Clone, Debug, Default)]
pub struct Adopted {
    /// The description.
    pub text: String,
    /// Secrets by the file that the description names for each.
    pub secrets: BTreeMap<String, Secret>,
    /// Public keys and certificates, in PEM, by the file that the description names for each.
    pub shown: BTreeMap<String, String>,
    /// Everything to be told.
    pub notes: Vec<Note>,
    /// What the sites are called in it.
    pub sites: [String; 2],
    /// The connections of each end that are taken over.
    pub taken: [Vec<String>; 2],
}

/// A text, with nothing in it that misleads.
fn text(text: &str) -> Value {
    let plain = Value::from(text);
    if !plain.to_string().chars().any(misleads) {
        return plain;
    }
    let written: String = text.chars().map(escaped).collect();
    format!("\"{written}\"").parse().unwrap_or(plain)
}

/// A character as a basic string of TOML 1.0 can have it.
fn escaped(c: char) -> String {
    match c {
        '"' | '\\' => format!("\\{c}"),
        _ if !misleads(c) && !c.is_control() => c.to_string(),
        '\u{10000}'.. => format!("\\U{:08x}", u32::from(c)),
        _ => format!("\\u{:04x}", u32::from(c)),
    }
}

/// One value, or a list of several.
fn list<T: ToString>(items: &[T]) -> Value {
    match items {
        [one] => text(&one.to_string()),
        several => Value::Array(several.iter().map(|item| text(&item.to_string())).collect()),
    }
}

/// A table in one line.
fn inline<K: AsRef<str>>(entries: impl IntoIterator<Item = (K, Value)>) -> Value {
    let mut table = InlineTable::new();
    for (key, value) in entries {
        table.insert(key.as_ref(), value);
    }
    Value::InlineTable(table)
}

/// Adds a line to a table.
fn say(table: &mut Table, key: &str, value: impl Into<Value>) {
    table.insert(key, Item::Value(value.into()));
}

/// Two connections that become a tunnel.
struct Counterparts<'a> {
    name: String,
    /// What other tunnels with the same IKE SA carry.
    beside: Vec<[IpNet; 2]>,
    /// What its secret is called: that of the first tunnel with the same IKE SA.
    secret: String,
    connections: [&'a Connection; 2],
    /// What of each gateway belongs to it.
    parts: [Gateway; 2],
}

/// Makes a description of the tunnels that two gateways have with each other.
pub fn adopt(ends: [Adoptee<'_>; 2]) -> Adopted {
    let mut adopted = Adopted::default();
    let gateways = ends.map(|end| end.reading.gateway);
    let couples = Pairing::of(gateways, ends.map(|end| end.reading.ends_open), true);
    let parts: Vec<_> = couples.pairs().map(|(one, other)| divide::divided(ends, [one, other])).collect();
    let mut pairs: Vec<Counterparts<'_>> = Vec::new();
    for (i, parts) in parts.iter().enumerate() {
        let free = |name: &String, pairs: &[Counterparts<'_>]| is_name(name) && pairs.iter().all(|pair| pair.name != *name);
        let named = parts.iter().flatten().map(|connection| plain(&connection.name));
        let name = named.into_iter().find(|name| free(name, &pairs)).unwrap_or_else(|| format!("tunnel-{}", i + 1));
        for (j, connections) in parts.iter().enumerate() {
            let numbered = Some(format!("{name}-{}", j + 1)).filter(|numbered| free(numbered, &pairs));
            let own = match j {
                0 => name.clone(),
                _ => numbered.unwrap_or_else(|| format!("tunnel-{}-{}", i + 1, j + 1)),
            };
            let connections = connections.each_ref();
            let parts = [gateways[0].part_of(connections[0]), gateways[1].part_of(connections[1])];
            pairs.push(Counterparts { name: own, beside: Vec::new(), secret: name.clone(), connections, parts });
        }
    }
    // Those of one IKE SA stand together.
    for some in pairs.chunk_by_mut(|one, other| one.secret == other.secret).filter(|some| some.len() > 1) {
        let carried: Vec<Vec<[IpNet; 2]>> =
            some.iter().map(|pair| crossing(pair).into_iter().map(|[near, _, _, far]| [near, far]).collect()).collect();
        for (place, pair) in some.iter_mut().enumerate() {
            let others = carried.iter().enumerate().filter(|(other, _)| *other != place);
            pair.beside = others.flat_map(|(_, carried)| carried).copied().collect();
        }
    }
    for (end, alone) in couples.alone().into_iter().enumerate() {
        for connection in alone {
            let text = "it has no counterpart at the other end, and is left out".to_owned();
            let mut places = [None, None];
            places[end] = connection.remote.origin.place().cloned();
            adopted.notes.push(Note {
                tunnel: None,
                about: format!("{} of {}", connection.name, ends[end].reading.name),
                text,
                places,
                kind: NoteKind::LeftOut,
            });
        }
    }
    adopted.sites = site_names(ends);
    adopted.taken = [0, 1].map(|end| {
        let mut names: Vec<_> = pairs.iter().map(|pair| pair.connections[end].name.clone()).collect();
        names.dedup();
        names
    });
    let nets = [0, 1].map(|end| networks(&pairs, end));
    let [mut sites, mut tunnels] = [Table::new(), Table::new()];
    sites.set_implicit(true);
    tunnels.set_implicit(true);
    for (end, name) in site_names(ends).into_iter().enumerate() {
        let table = SiteWriter { ends, end, pairs: &pairs, nets: &nets[end], notes: &mut adopted.notes, shown: &mut adopted.shown }.table();
        sites.insert(&name, Item::Table(table));
    }
    for pair in &pairs {
        lost::told(&mut adopted, ends, pair);
        let table = tunnel::table(&mut adopted, ends, pair, &nets);
        tunnels.insert(&pair.name, Item::Table(table));
    }
    let mut document = DocumentMut::new();
    say(&mut document, "unified-span", 1);
    document.insert("site", Item::Table(sites));
    document.insert("tunnel", Item::Table(tunnels));
    adopted.notes.extend(disagreements(ends, &pairs));
    adopted.text = document.to_string();
    adopted
}

/// A name as a description can have it, as far as it is one.
fn plain(name: &str) -> String {
    let mut plain: String = name.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' }).collect();
    plain.truncate(LONGEST_NAME);
    plain.trim_matches('-').to_owned()
}

/// As many letters a name of a description has.
const LONGEST_NAME: usize = 32;

/// The names of the two sites: what their gateways are called, where those are names, and not the same one.
fn site_names(ends: [Adoptee<'_>; 2]) -> [String; 2] {
    let names = ends.map(|end| plain(end.reading.name));
    match names.iter().all(|name| is_name(name)) && names[0] != names[1] {
        true => names,
        false => ["first".to_owned(), "second".to_owned()],
    }
}

/// What crosses a pair, as its first end sees it: its network, as what that appears, the other's as that appears, and itself.
fn crossing(pair: &Counterparts<'_>) -> Vec<[IpNet; 4]> {
    let [one, other] = &pair.parts;
    // In the order of the Child SAs, and of the networks within them.
    let mut places: HashMap<(IpNet, IpNet), usize> = HashMap::new();
    for child in &pair.connections[0].children {
        for near in &child.local.value {
            for far in &child.remote.value {
                let next = places.len();
                places.entry((*near, *far)).or_insert(next);
            }
        }
    }
    let place = |near: &IpNet, far: &IpNet| places.get(&(*near, *far)).copied().unwrap_or(usize::MAX);
    let mut crossing: Vec<_> = one.crossing().into_iter().collect();
    crossing.sort_by_cached_key(|(near, far)| place(near, far));
    crossing.into_iter().map(|(near, far)| [one.inner(near, far), near, far, other.inner(far, near)]).collect()
}

/// The networks that are reached through an end, each with a name: what the Child SAs are called after where that tells, else a number.
fn networks(pairs: &[Counterparts<'_>], end: usize) -> Vec<(String, IpNet)> {
    let mut nets: Vec<(String, IpNet)> = Vec::new();
    for pair in pairs.iter().filter(|pair| !pair.parts[0].speaks_for_itself()) {
        for crossed in crossing(pair) {
            let net = if end == 0 { crossed[0] } else { crossed[3] };
            if nets.iter().any(|(_, known)| *known == net) {
                continue;
            }
            let children = pair.connections[end].children.iter();
            let appears = if end == 0 { crossed[1] } else { crossed[2] };
            let mut told = children.filter(|child| child.local.value == [appears]).filter_map(|child| {
                let mut words = child.name.strip_prefix(&pair.connections[end].name)?.strip_prefix('_')?.split('_');
                let (first, second) = (words.next()?, words.next()?);
                words.next().is_none().then(|| if end == 0 { first } else { second }.to_owned())
            });
            let free = |name: &String| is_name(name) && nets.iter().all(|(known, _)| known != name);
            let name = match net.prefix_len() {
                0 => EVERYTHING.to_owned(),
                _ => told.find(free).unwrap_or_else(|| format!("net-{}", nets.len() + 1)),
            };
            nets.push((name, net));
        }
    }
    nets
}

/// Whether a harmless difference is one that a description has too: what each end has for itself, or cannot choose.
fn each_for_itself(ends: [Adoptee<'_>; 2], row: &ComparedParameter) -> bool {
    let fixed = |of: fn(&Profile) -> bool| ends.iter().any(|end| of(end.facts));
    row.gravity == Gravity::Compatible
        && match row.parameter {
            Parameter::Exemption | Parameter::Opening | Parameter::Steering | Parameter::Address => true,
            Parameter::ReplayWindow => fixed(|facts| matches!(facts.replay_window, ReplayWindow::Fixed(_))),
            Parameter::Liveness => fixed(|facts| facts.liveness == Liveness::OfDaemon),
            _ => false,
        }
}

/// Everything in which the two ends differ: what the first one says was taken.
fn disagreements(ends: [Adoptee<'_>; 2], pairs: &[Counterparts<'_>]) -> Vec<Note> {
    let [left, right] = ends.map(|end| Actor { reading: end.reading, behaviour: &end.facts.behaviour, stands: KnownAddresses::default() });
    let comparison = compare_ends(left, right);
    let mut notes = Vec::new();
    for compared in &comparison.pairs {
        let tunnel = pairs.iter().find(|pair| pair.connections[0].name == compared.names[0]).map(|pair| pair.name.clone());
        let told = compared.told().into_iter().map(|(parameter, _)| parameter);
        for parameter in told.filter(|parameter| parameter.gravity != Gravity::Equal && !each_for_itself(ends, parameter)) {
            let said = |shown: &Shown| shown.value.replace('\n', "; ");
            let [one, other] = parameter.values.each_ref().map(said);
            let names = ends.map(|end| end.reading.name);
            let text = format!("{} says {one}, {} says {other}", names[0], names[1]);
            let places = parameter.values.each_ref().map(|shown| shown.place.clone());
            let kind = if parameter.gravity == Gravity::Fatal { NoteKind::Disagrees } else { NoteKind::Told };
            notes.push(Note { tunnel: tunnel.clone(), about: parameter.name.clone(), text, places, kind });
        }
    }
    notes
}

//! Two gateways as their files say, parameter by parameter: the two ends of a tunnel, or the same end twice.
//!
//! Whatever is compared was read from files; nothing here knows a description or a platform. A value keeps the place
//! that it was read from, and whether it is a platform's default.

mod child;
mod connection;
mod judge;
mod offers;
mod passage;

use crate::actor::{Actor, ReadGateway};
use crate::rehearse::Doubt;
use uspan_model::gateway::{Connection, Origin, Setting};
use uspan_model::pairing::{Pairing, best};
use uspan_model::parameter::Parameter;
use uspan_model::source::Place;

/// How grave a difference is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Gravity {
    /// The tunnel does not come up, breaks later, or does not carry what it should.
    Fatal,
    /// What one of the two says is not understood: whether it fits cannot be said.
    Unknown,
    /// It differs and works.
    Compatible,
    /// It is the same.
    Equal,
}

/// A value at one end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shown {
    /// In neutral words.
    pub value: String,
    /// As the gateway's file spells it.
    pub spelling: Option<String>,
    /// Where it stands there.
    pub place: Option<Place>,
    /// Nothing is said: it is the platform's default.
    pub is_default: bool,
    /// What is said is not understood.
    pub is_unknown: bool,
}

/// A parameter at both ends.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ComparedParameter {
    /// Which one.
    pub parameter: Parameter,
    /// The end that it is of, where each has one of its own that the other one must know.
    pub of: Option<usize>,
    /// In words, with the name of that end.
    pub name: String,
    /// The Child SA that it is of, where there are several.
    pub child: Option<String>,
    /// The Child SAs that are compared, as each end calls its own.
    pub(crate) children: [Option<String>; 2],
    /// The two values, as each end has them.
    pub values: [Shown; 2],
    /// How grave the difference is.
    pub gravity: Gravity,
    /// What it looks like in practice; empty where it is the same.
    pub practice: String,
    /// What to do about it.
    pub remedy: String,
}

/// Two connections that belong together.
#[derive(Clone, Debug)]
pub struct ComparedPair {
    /// Their names, each in its own files.
    pub names: [String; 2],
    /// The parameters, the gravest first.
    pub parameters: Vec<ComparedParameter>,
    /// What is in the way of a verdict about the two ends.
    pub doubts: Vec<Doubt>,
}

impl ComparedPair {
    /// The parameters, each with the Child SAs that it is of: what is so in several of them stands once, with the places
    /// of the first.
    pub fn told(&self) -> Vec<(&ComparedParameter, Vec<&str>)> {
        let values = |parameter: &ComparedParameter| parameter.values.each_ref().map(|shown| shown.value.clone());
        let mut told: Vec<(&ComparedParameter, Vec<&str>)> = Vec::new();
        for parameter in &self.parameters {
            let same = |known: &&mut (&ComparedParameter, Vec<&str>)| {
                known.0.name == parameter.name && parameter.child.is_some() && values(known.0) == values(parameter)
            };
            let child = parameter.child.as_deref();
            match told.iter_mut().find(same) {
                Some((_, children)) => children.extend(child),
                None => told.push((parameter, child.into_iter().collect())),
            }
        }
        told
    }
}

/// What came of it.
#[derive(Clone, Debug, Default)]
pub struct Comparison {
    /// Connections that belong together.
    pub pairs: Vec<ComparedPair>,
    /// Names of connections that have no counterpart, at each end.
    pub alone: [Vec<String>; 2],
}

impl Comparison {
    /// How many parameters are of this gravity; what is so in several Child SAs counts once.
    pub fn count(&self, gravity: Gravity) -> usize {
        self.pairs.iter().map(|pair| pair.told().iter().filter(|(parameter, _)| parameter.gravity == gravity).count()).sum()
    }
}

/// Holds two ends of tunnels against each other. What the negotiation decides is fatal where it fails for that, or carries something
/// else than both say.
pub fn compare_ends(left: Actor<'_>, right: Actor<'_>) -> Comparison {
    let actors = [left, right];
    let mut comparison = compare(left.reading, right.reading, true);
    judge::judge(actors, &mut comparison);
    comparison
}

/// Holds the same end against itself: as it stands, and as it should.
pub fn compare_same(stands: ReadGateway<'_>, should: ReadGateway<'_>) -> Comparison {
    compare(stands, should, false)
}

fn compare(left: ReadGateway<'_>, right: ReadGateway<'_>, crossed: bool) -> Comparison {
    let couples = Pairing::of([left.gateway, right.gateway], [left.ends_open, right.ends_open], crossed);
    let mut comparison = Comparison::default();
    for (one, other) in couples.pairs() {
        // Another tunnel of the gateway is none of this one's business.
        let parts = [left.gateway.part_of(one), right.gateway.part_of(other)];
        let side = |reading, end: usize, connection| ComparedEnd { reading: ReadGateway { gateway: &parts[end], ..reading }, connection };
        comparison.pairs.push(pair([side(left, 0, one), side(right, 1, other)], crossed));
    }
    comparison.alone = couples.alone().map(|list| list.into_iter().map(|connection| connection.name.clone()).collect());
    comparison
}

/// One end of a pair.
#[derive(Clone, Copy)]
struct ComparedEnd<'a> {
    reading: ReadGateway<'a>,
    connection: &'a Connection,
}

/// The parameters of a pair while they are collected.
struct Comparing<'a> {
    sides: [ComparedEnd<'a>; 2],
    /// Whether the two are ends of one tunnel, so that what is own here is the peer's there.
    crossed: bool,
    /// The Child SA that the parameters are of, where there are several.
    child: Option<String>,
    /// The Child SAs that are compared, as each end calls its own.
    children: [Option<String>; 2],
    list: Vec<ComparedParameter>,
}

/// What is to be said of two values.
struct Assessment {
    gravity: Gravity,
    practice: String,
    remedy: String,
}

impl Assessment {
    fn equal() -> Assessment {
        Assessment { gravity: Gravity::Equal, practice: String::new(), remedy: String::new() }
    }

    fn fatal(practice: impl Into<String>, remedy: impl Into<String>) -> Assessment {
        Assessment { gravity: Gravity::Fatal, practice: practice.into(), remedy: remedy.into() }
    }

    fn unknown() -> Assessment {
        Assessment { gravity: Gravity::Unknown, practice: "What stands there is not understood.".to_owned(), remedy: String::new() }
    }

    fn compatible(practice: impl Into<String>) -> Assessment {
        Assessment { gravity: Gravity::Compatible, practice: practice.into(), remedy: String::new() }
    }

    /// Nothing where the two are the same.
    fn unless(same: bool, otherwise: impl FnOnce() -> Assessment) -> Assessment {
        if same { Assessment::equal() } else { otherwise() }
    }
}

fn pair(sides: [ComparedEnd<'_>; 2], crossed: bool) -> ComparedPair {
    let mut table = Comparing { sides, crossed, child: None, children: [None, None], list: Vec::new() };
    table.connection();
    table.children();
    table.passage();
    let mut parameters = table.list;
    parameters.sort_by_key(|parameter| parameter.gravity);
    ComparedPair { names: sides.map(|side| side.connection.name.clone()), parameters, doubts: Vec::new() }
}

impl ComparedEnd<'_> {
    /// A value with its spelling and place.
    fn shown<T>(&self, setting: &Setting<T>, value: String) -> Shown {
        let is_unknown = setting.doubt().is_some();
        let value = if is_unknown { "not understood".to_owned() } else { value };
        Shown { is_default: setting.origin == Origin::Default, is_unknown, ..self.placed(value, setting.origin.place()) }
    }

    /// Something that stands somewhere in its files, if anywhere.
    fn placed(&self, value: String, place: Option<&Place>) -> Shown {
        let spelling = place.and_then(|place| self.reading.spelling(place));
        Shown { value, spelling, place: place.cloned(), is_default: false, is_unknown: false }
    }
}

/// A value that stands in no file.
fn plain(value: impl Into<String>) -> Shown {
    Shown { value: value.into(), spelling: None, place: None, is_default: false, is_unknown: false }
}

impl Comparing<'_> {
    fn add(&mut self, parameter: Parameter, values: [Shown; 2], verdict: Assessment) {
        self.add_of((parameter, None, parameter.words().to_owned()), values, verdict);
    }

    /// Adds one of an end, with its name.
    fn add_of(&mut self, (parameter, of, name): (Parameter, Option<usize>, String), values: [Shown; 2], verdict: Assessment) {
        let unknown = values.iter().any(|shown| shown.is_unknown);
        let Assessment { gravity, practice, remedy } = if unknown { Assessment::unknown() } else { verdict };
        let (child, children) = (self.child.clone(), self.children.clone());
        self.list.push(ComparedParameter { parameter, of, name, child, children, values, gravity, practice, remedy });
    }

    /// A parameter that each end has for itself.
    fn each<T: Clone>(
        &mut self,
        parameter: Parameter,
        of: impl Fn(&Connection) -> Setting<T>,
        words: impl Fn(&T) -> String,
        judge: impl FnOnce(&T, &T) -> Assessment,
    ) {
        let settings = self.sides.map(|side| of(side.connection));
        let values = [0, 1].map(|end| self.sides[end].shown(&settings[end], words(&settings[end].value)));
        let verdict = judge(&settings[0].value, &settings[1].value);
        self.add(parameter, values, verdict);
    }

    /// What the first end says of itself, and the second of it; and the other way round. Where the same end is held
    /// against itself, what both say of themselves and of the peer.
    fn mutual<T: Clone>(
        &mut self,
        parameter: Parameter,
        [own, far]: [fn(&Connection) -> &Setting<T>; 2],
        words: impl Fn(&T) -> String,
        judge: impl Fn(&T, &T) -> Assessment,
    ) {
        let [left, right] = self.sides;
        let names = self.about(parameter.words());
        let second = |of_left: bool| if of_left == self.crossed { far(right.connection) } else { own(right.connection) };
        for (of, first, second) in
            [(0, own(left.connection).clone(), second(true).clone()), (1, far(left.connection).clone(), second(false).clone())]
        {
            let values = [left.shown(&first, words(&first.value)), right.shown(&second, words(&second.value))];
            let verdict = judge(&first.value, &second.value);
            self.add_of((parameter, Some(of), names[of].clone()), values, verdict);
        }
    }

    fn names(&self) -> [&str; 2] {
        self.sides.map(|side| side.reading.name)
    }

    /// Whose value a mutual parameter is about.
    fn about(&self, what: &str) -> [String; 2] {
        match self.crossed {
            true => self.names().map(|name| format!("{what} of {name}")),
            false => [format!("own {what}"), format!("peer's {what}")],
        }
    }
}

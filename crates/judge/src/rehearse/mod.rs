//! A negotiation rehearsed: two gateways as their files say, message by message, as RFC 7296 (IKEv2) and RFC 2409 (IKEv1)
//! have it and as the daemons do it.
//!
//! It sees nothing but gateways and how their platforms behave where the standards leave a choice ([`Behaviour`]). Where it
//! fails it says at which message, with which notification, what each end would log, and which line of which file to change.

mod doubt;
mod ends;
mod message;
mod proof;
mod unfit;
mod v1;
mod v2;

use std::borrow::Cow;

use ipnet::IpNet;

use crate::actor::{Actor, ReadGateway};
use uspan_dialects::profile::{Behaviour, Line};
use uspan_model::algorithm::Transform;
use uspan_model::gateway::{Child, Connection, Endpoint, Gateway, IkeVersion, Setting};
use uspan_model::pairing::Pairing;
use uspan_model::parameter::Parameter;
use uspan_model::source::Place;

use ends::Listeners;
use message::MessageDraft;
pub use message::{ExchangeType, Message, Notify, Payload, Step};

/// How far a negotiation comes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stage {
    /// The daemons take what their files say.
    Load,
    /// A first answer of the peer.
    Answer,
    /// Proposals and keys for the IKE SA.
    IkeSa,
    /// Identities, and what proves them.
    Authentication,
    /// Selectors and proposals of a Child SA.
    ChildSa,
    /// What crosses the Child SAs.
    Crossing,
    /// New keys for a Child SA.
    RekeyChild,
    /// A new IKE SA in place of the old one.
    RekeyIke,
    /// What is left after minutes in which nobody sent anything.
    Silence,
    /// What comes back once the peer was started again.
    Return,
}

impl Stage {
    /// A stable word.
    pub fn word(self) -> &'static str {
        match self {
            Stage::Load => "load",
            Stage::Answer => "answer",
            Stage::IkeSa => "ike-sa",
            Stage::Authentication => "authentication",
            Stage::ChildSa => "child-sa",
            Stage::Crossing => "crossing",
            Stage::RekeyChild => "rekey-child-sa",
            Stage::RekeyIke => "rekey-ike-sa",
            Stage::Silence => "silence",
            Stage::Return => "return",
        }
    }

    /// What happens there, in words.
    pub fn step(self) -> &'static str {
        match self {
            Stage::Load => "what the daemons take",
            Stage::Answer => "whether the peer answers",
            Stage::IkeSa => "the proposals and keys of the IKE SA",
            Stage::Authentication => "who believes whom",
            Stage::ChildSa => "the Child SAs",
            Stage::Crossing => "what crosses the Child SAs",
            Stage::RekeyChild => "new keys for a Child SA",
            Stage::RekeyIke => "a new IKE SA",
            Stage::Silence => "what is left after minutes of silence",
            Stage::Return => "what comes back once the peer was started again",
        }
    }

    /// What it looks like when it fails here.
    pub fn practice(self) -> &'static str {
        match self {
            Stage::Load => "the daemon does not have the connection: nothing is sent, and nothing answered",
            Stage::Answer => "no answer of the peer, no IKE SA",
            Stage::IkeSa | Stage::Authentication => "no IKE SA",
            Stage::ChildSa => "an IKE SA without this ESP SA",
            Stage::Crossing => "SAs at both ends, and nothing that arrives",
            Stage::RekeyChild => "the tunnel works until its first rekey",
            Stage::RekeyIke => "the tunnel works until the IKE SA is to be replaced",
            Stage::Silence => "the tunnel works until nobody sent anything for a minute or two; then one side reaches the other no more",
            Stage::Return => "the tunnel works until the peer is started again, and does not come back",
        }
    }
}

/// Something to change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cure {
    /// At which end.
    pub end: usize,
    /// Where it stands; nothing where nothing is said there.
    pub place: Option<Place>,
    /// As the file has it.
    pub spelling: Option<String>,
    /// What to do.
    pub what: String,
}

/// A parameter that a negotiation fails for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cause {
    /// Which one.
    pub parameter: Parameter,
    /// The end whose value it is, where each has one of its own that the other one must know.
    pub of: Option<usize>,
    /// The Child SAs that it is of, as each end calls its own.
    pub children: [Option<String>; 2],
}

impl From<Parameter> for Cause {
    fn from(parameter: Parameter) -> Cause {
        Cause { parameter, of: None, children: [None, None] }
    }
}

impl Cause {
    /// A parameter of one end.
    pub(crate) fn at(parameter: Parameter, end: usize) -> Cause {
        Cause { of: Some(end), ..Cause::from(parameter) }
    }
}

/// Where and why a negotiation fails.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RehearsalFailure {
    /// How far it came.
    pub stage: Stage,
    /// The Child SA that it is about, as the one who opens calls it.
    pub child: Option<String>,
    /// Which step shows it.
    pub step: usize,
    /// What the wire carries.
    pub notify: Option<Notify>,
    /// What it looks like.
    pub practice: &'static str,
    /// Which parameters do not fit.
    pub causes: Vec<Cause>,
    /// Why.
    pub reason: String,
    /// What each end's daemon logs, in its own words.
    pub logs: [Option<String>; 2],
    /// What to change.
    pub cures: Vec<Cure>,
}

/// A statement that is not understood, and in the way of a verdict.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Doubt {
    /// At which end.
    pub end: usize,
    /// From where on nothing can be said.
    pub stage: Stage,
    /// What it is about.
    pub about: String,
    /// Where it stands.
    pub place: Place,
    /// As the file has it.
    pub spelling: Option<String>,
}

/// What a rehearsal comes to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RehearsalVerdict {
    /// All of it comes up and stays up, as both ends say.
    Up,
    /// It does not come up, breaks later, or carries something else than one of the two ends says.
    Fails,
    /// It cannot be said, because of what is not understood.
    Unknown,
}

impl RehearsalVerdict {
    /// A stable word.
    pub fn word(self) -> &'static str {
        match self {
            RehearsalVerdict::Up => "up",
            RehearsalVerdict::Fails => "fails",
            RehearsalVerdict::Unknown => "unknown",
        }
    }
}

/// A Child SA that came up.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpenedChild {
    /// What each end calls it.
    pub names: [String; 2],
    /// What each end sends through it, from its own networks to the peer's.
    pub selectors: [Vec<(IpNet, IpNet)>; 2],
    /// What it is protected with.
    pub protection: String,
    /// Whether it carries what both ends say, and not less.
    pub whole: bool,
}

/// A negotiation between two connections that belong together.
#[derive(Clone, Debug)]
pub struct Rehearsal {
    /// What each end calls the connection.
    pub names: [String; 2],
    /// The end that opens it.
    pub initiator: usize,
    /// What happens, in order.
    pub steps: Vec<Step>,
    /// What fails, in order; nothing where everything works.
    pub failures: Vec<RehearsalFailure>,
    /// The Child SAs that come up.
    pub opened: Vec<OpenedChild>,
    /// What is in the way of a verdict; where there is any, nothing fails and nothing comes up.
    pub doubts: Vec<Doubt>,
}

impl Rehearsal {
    /// The stage at which it first fails.
    pub fn stage(&self) -> Option<Stage> {
        self.failures.iter().map(|failure| failure.stage).min()
    }

    /// Whether all of it comes up and stays up, as both ends say.
    pub fn works(&self) -> bool {
        self.verdict() == RehearsalVerdict::Up
    }

    /// What it comes to.
    pub fn verdict(&self) -> RehearsalVerdict {
        match () {
            () if !self.doubts.is_empty() => RehearsalVerdict::Unknown,
            () if self.failures.is_empty() && self.opened.iter().all(|opened| opened.whole) => RehearsalVerdict::Up,
            () => RehearsalVerdict::Fails,
        }
    }
}

/// Rehearsals of all connections of two gateways that belong together, and the names of those without a counterpart.
#[derive(Clone, Debug, Default)]
pub struct Rehearsals {
    /// One for each pair.
    pub all: Vec<Rehearsal>,
    /// Connections of each end without a counterpart.
    pub alone: [Vec<String>; 2],
}

/// Lets two gateways negotiate. `initiator`: the end that opens, whatever the files say of that.
pub fn rehearse(actors: [Actor<'_>; 2], initiator: Option<usize>) -> Rehearsals {
    negotiate(actors, initiator, true)
}

/// The same for somebody who asks only how far it comes and why no further: what the messages say is left out.
pub fn outcome_only(actors: [Actor<'_>; 2], initiator: Option<usize>) -> Rehearsals {
    negotiate(actors, initiator, false)
}

fn negotiate(actors: [Actor<'_>; 2], initiator: Option<usize>, read: bool) -> Rehearsals {
    let met = [0, 1].map(|end| met(actors[end].reading.gateway, actors[1 - end]));
    let actors = [0, 1].map(|end| Actor { reading: ReadGateway { gateway: &met[end], ..actors[end].reading }, ..actors[end] });
    let gateways = actors.each_ref().map(|actor| actor.reading.gateway);
    let couples = Pairing::of(gateways, actors.each_ref().map(|actor| actor.reading.ends_open), true);
    let listeners = [0, 1].map(|end| Listeners::of(couples.connections(end)));
    let mut rehearsals = Rehearsals::default();
    for (one, other) in couples.pairs() {
        let initiator = initiator.unwrap_or_else(|| who_opens([one, other]));
        let mut play = Play::new(actors, [one, other], initiator, &listeners[1 - initiator], read);
        if !play.refused() {
            match [one, other][initiator].version() {
                IkeVersion::V2 => play.ikev2(),
                IkeVersion::V1 => play.ikev1(),
            }
            play.doubt();
        }
        rehearsals.all.push(play.rehearsal);
    }
    rehearsals.alone = couples.alone().map(|list| list.into_iter().map(|connection| connection.name.clone()).collect());
    rehearsals
}

/// A gateway as it is once the peer is there: what it carries for a peer that may be anywhere is the address which that has.
fn met<'a>(gateway: &'a Gateway, peer: Actor<'_>) -> Cow<'a, Gateway> {
    if !gateway.connections.iter().any(|connection| connection.children.iter().any(|child| child.of_peer)) {
        return Cow::Borrowed(gateway);
    }
    let mut whole = gateway.clone();
    for connection in &mut whole.connections {
        let own = connection.local.value.address();
        let meant =
            peer.reading.gateway.connections.iter().filter(|theirs| own.is_none_or(|own| theirs.remote.value.takes(own) != Some(false)));
        let mut addresses: Vec<_> = meant.filter_map(|theirs| theirs.local.value.address()).chain(peer.stands.own).collect();
        addresses.sort_unstable();
        addresses.dedup();
        let [address] = addresses.as_slice() else { continue };
        for child in connection.children.iter_mut().filter(|child| child.of_peer) {
            child.remote = Setting::default_of(vec![IpNet::from(*address)]);
        }
    }
    Cow::Owned(whole)
}

/// The end that opens a connection by itself; where both do or neither, the first one that knows where its peer is.
fn who_opens(connections: [&Connection; 2]) -> usize {
    let opens = |connection: &Connection| connection.children.iter().any(|child| child.opening.value.opens());
    let knows = |connection: &Connection| connection.remote.value != Endpoint::Anywhere;
    let rank = |connection| (opens(connection), knows(connection));
    usize::from(rank(connections[1]) > rank(connections[0]))
}

/// A negotiation while it goes on.
struct Play<'a> {
    actors: [Actor<'a>; 2],
    /// The two connections that belong together.
    connections: [&'a Connection; 2],
    initiator: usize,
    /// Those of the responder.
    listeners: &'a Listeners<'a>,
    /// The group of the IKE SA.
    group: Option<Transform>,
    /// Whether somebody reads what is said and thought.
    read: bool,
    rehearsal: Rehearsal,
}

impl<'a> Play<'a> {
    fn new(actors: [Actor<'a>; 2], connections: [&'a Connection; 2], initiator: usize, listeners: &'a Listeners<'a>, read: bool) -> Self {
        let names = connections.map(|connection| connection.name.clone());
        let rehearsal = Rehearsal { names, initiator, steps: Vec::new(), failures: Vec::new(), opened: Vec::new(), doubts: Vec::new() };
        Play { actors, connections, initiator, listeners, group: None, read, rehearsal }
    }

    fn responder(&self) -> usize {
        1 - self.initiator
    }

    fn name(&self, end: usize) -> &'a str {
        self.actors[end].reading.name
    }

    fn behaviour(&self, end: usize) -> &'a Behaviour {
        self.actors[end].behaviour
    }

    /// The connection of the initiator.
    fn initiating(&self) -> &'a Connection {
        self.connections[self.initiator]
    }

    /// The connection that is to answer.
    fn responding(&self) -> &'a Connection {
        self.connections[self.responder()]
    }

    /// A request of IKEv2.
    fn request(&self, from: usize, exchange: ExchangeType, id: u32, source: &'static str) -> MessageDraft {
        MessageDraft::request(self.read, from, exchange, id, source)
    }

    /// Its reply.
    fn reply(&self, from: usize, exchange: ExchangeType, id: u32, source: &'static str) -> MessageDraft {
        self.request(from, exchange, id, source).answering()
    }

    /// A message of IKEv1.
    fn old(&self, from: usize, exchange: ExchangeType, source: &'static str) -> MessageDraft {
        self.request(from, exchange, 0, source).without_id()
    }

    /// Sends a message.
    fn say(&mut self, message: MessageDraft) {
        self.rehearsal.steps.push(Step::Message(message.sent()));
    }

    /// What an end makes of it for itself.
    fn think<S: Into<String>>(&mut self, end: usize, text: impl FnOnce() -> S) {
        if self.read {
            self.rehearsal.steps.push(Step::Thought { end, text: text().into() });
        }
    }

    /// A cure at an end for a setting that is said somewhere.
    fn cure<T>(&self, end: usize, setting: &Setting<T>, what: impl Into<String>) -> Cure {
        self.cure_at(end, setting.origin.place(), what)
    }

    fn cure_at(&self, end: usize, place: Option<&Place>, what: impl Into<String>) -> Cure {
        let spelling = place.and_then(|place| self.actors[end].reading.spelling(place));
        Cure { end, place: place.cloned(), spelling, what: what.into() }
    }

    /// A failure, and what does not fit; `told` is what the two daemons write into their logs: the initiator, and the responder.
    fn fail(
        &mut self,
        (stage, causes): (Stage, Vec<Cause>),
        reason: impl Into<String>,
        told: [Option<Line>; 2],
        cures: Vec<Cure>,
    ) -> &mut RehearsalFailure {
        let mut logs = [None, None];
        let version = self.initiating().version();
        for (end, line) in [(self.initiator, told[0]), (self.responder(), told[1])] {
            logs[end] = line.and_then(|line| self.behaviour(end).words(line, version)).map(str::to_owned);
        }
        let step = self.rehearsal.steps.iter().rposition(|step| matches!(step, Step::Message(_))).unwrap_or(0);
        let notify = self.rehearsal.steps.get(step).and_then(Step::refusal);
        self.rehearsal.failures.push(RehearsalFailure {
            stage,
            practice: stage.practice(),
            child: None,
            step,
            notify,
            causes,
            reason: reason.into(),
            logs,
            cures,
        });
        self.rehearsal.failures.last_mut().expect("one was pushed")
    }
}

/// What a Child SA is called where it is shown.
fn child_name(child: &Child) -> Option<String> {
    Some(child.name.clone())
}

impl Play<'_> {
    /// A parameter of Child SAs: the one that is asked for, and the one that was to answer it.
    fn of_children(&self, parameter: Parameter, asked: &Child, own: Option<&Child>) -> Cause {
        let mut children = [None, None];
        children[self.initiator] = child_name(asked);
        children[self.responder()] = own.and_then(child_name);
        Cause { children, ..parameter.into() }
    }
}

//! A packet filter of the administrator's, as its files or a listing of what is loaded say, and what it does with packets.
//!
//! Chains of the Linux kernel, whatever program wrote them down: those that it asks by itself at a hook, in order, and those
//! that others jump to. A condition that is not understood is kept as one of which nobody knows whether it holds.

use std::collections::BTreeSet;
use std::sync::Arc;

use ipnet::IpNet;

use super::{Filter, FilterRule, Hook, NatTarget, Ports, Protection, ReadAt, Traffic, Transport};
use crate::source::Place;

/// All chains of a gateway that are not a tunnel's.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ruleset {
    /// In the order in which they were read.
    pub chains: Vec<Chain>,
}

/// Rules that are asked one after the other.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Chain {
    /// The table that it stands in.
    pub table: String,
    /// Its name there.
    pub name: String,
    /// Whether it sees IPv4.
    pub ipv4: bool,
    /// Whether it sees IPv6.
    pub ipv6: bool,
    /// Where the kernel asks it by itself.
    pub base: Option<Base>,
    /// In order.
    pub rules: Vec<ChainRule>,
}

/// Where the kernel asks a chain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Base {
    /// On a packet's way.
    pub hook: Hook,
    /// What for.
    pub task: Task,
    /// Among all chains there: lower ones first.
    pub order: i32,
    /// What none of its rules decides on is dropped.
    pub drops: bool,
    /// Where that is said.
    pub place: ReadAt,
}

/// What a chain decides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Task {
    /// Whether packets pass.
    Pass,
    /// Other addresses, once for each connection.
    Translate,
    /// Something else.
    Other,
}

/// One rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChainRule {
    /// All must hold.
    pub tests: Vec<Test>,
    /// It writes to the log.
    pub logs: bool,
    /// What it does.
    pub action: Action,
    /// Where it stands.
    pub place: ReadAt,
}

/// A condition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Test {
    /// It must not hold.
    pub not: bool,
    /// What it asks.
    pub what: What,
}

/// What a condition asks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum What {
    /// The source is in one of these.
    Source(Arc<[IpNet]>),
    /// The destination is.
    Destination(Arc<[IpNet]>),
    /// It leaves through one of these interfaces; `*` at the end of a name stands for anything.
    Into(Vec<String>),
    /// It arrived through one of these.
    OutOf(Vec<String>),
    /// It is IPv4, or IPv6.
    Ipv4(bool),
    /// IP protocols.
    Protocol(Vec<u8>),
    /// Destination ports.
    Port(Vec<Ports>),
    /// Source ports.
    SourcePort(Vec<Ports>),
    /// Types of ICMP.
    Icmp(Vec<u8>),
    /// What the packet is to connections that are known.
    State(Vec<State>),
    /// An SA will carry it.
    Leaving,
    /// It came out of an SA.
    Arrived,
    /// No more than a rate, or only what is over it; in packets a second, where it is said so.
    Rate {
        /// Only what is over it.
        over: bool,
        /// How many.
        a_second: Option<u32>,
    },
    /// Something that is not understood.
    Other,
}

/// What a packet is to connections that are known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// It opens one.
    New,
    /// It belongs to one.
    Established,
    /// It is about one.
    Related,
    /// Something else.
    Other,
}

/// What a rule does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Action {
    /// The chain is through with it, and it passes.
    Accept,
    /// It is dropped, with or without word to its sender.
    Drop,
    /// Back to where the chain was jumped from.
    Return,
    /// Another chain is asked, then the next rule.
    Jump(String),
    /// Another chain is asked instead of the rest of this one.
    Goto(String),
    /// Nothing that matters here; the next rule.
    Next,
    /// The source becomes the gateway's own address.
    Masquerade,
    /// Another translation.
    Translate(NatTarget),
    /// TCP segments no longer than this.
    Segments(u16),
    /// Something that is not understood.
    Other,
}

/// An interface that a packet comes through.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PassedInterface<'a> {
    /// There is none.
    None,
    /// This one.
    Named(&'a str),
    /// One of which the name is not known.
    Unknown,
}

/// A packet, or packets of a kind, where a chain meets it.
#[derive(Clone, Copy, Debug)]
pub struct PacketAt<'a> {
    /// Where.
    pub hook: Hook,
    /// Source.
    pub from: IpNet,
    /// Destination.
    pub to: IpNet,
    /// What it is for.
    pub traffic: &'a Traffic,
    /// Through which interface it leaves.
    pub into: PassedInterface<'a>,
    /// Through which it arrived.
    pub out_of: PassedInterface<'a>,
    /// An SA will carry it.
    pub leaving: bool,
    /// It came out of an SA.
    pub arrived: bool,
}

/// Whether a condition holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Holds {
    No,
    /// Nobody knows.
    Perhaps,
    /// It depends on the name of an interface that is not known.
    ByInterface,
    Yes,
}

/// What decides about a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Decider<'a> {
    /// A rule.
    Rule(&'a ChainRule),
    /// A rule of a tunnel's chain that is jumped to.
    Own(&'a FilterRule),
    /// The chain, for want of a rule.
    Chain(&'a Chain),
}

impl<'a> Decider<'a> {
    /// Where it stands.
    pub fn place(self) -> Option<&'a Place> {
        match self {
            Decider::Rule(rule) => rule.place.0.as_ref(),
            Decider::Own(rule) => rule.place.0.as_ref(),
            Decider::Chain(chain) => chain.base.as_ref().and_then(|base| base.place.0.as_ref()),
        }
    }
}

/// What becomes of a packet at a hook, and what might decide otherwise.
#[derive(Clone, Debug, Default)]
pub struct Ruling<'a> {
    /// What decides; nothing where no chain is asked.
    pub decider: Option<Decider<'a>>,
    /// Rules of which nobody knows whether they match, and that would decide otherwise.
    pub doubts: Vec<&'a ChainRule>,
}

impl Ruling<'_> {
    /// Whether it passes, as far as that is known.
    pub fn passes(&self) -> bool {
        match self.decider {
            None => true,
            Some(Decider::Rule(rule)) => rule.action != Action::Drop,
            Some(Decider::Own(rule)) => rule.verdict != super::Verdict::Drop,
            Some(Decider::Chain(chain)) => chain.base.as_ref().is_none_or(|base| !base.drops),
        }
    }

    /// Whether it may pass.
    pub fn may_pass(&self) -> bool {
        self.passes() || self.doubts.iter().any(|rule| rule.action == Action::Accept)
    }
}

/// The hook of a tunnel's chain that an administrator's chain jumps to, by its name.
pub fn own_chain(name: &str) -> Option<Hook> {
    const ENDS: [(&str, Hook); 6] = [
        ("-input", Hook::Input),
        ("-forward", Hook::Forward),
        ("-output", Hook::Output),
        ("-in", Hook::Input),
        ("-fwd", Hook::Forward),
        ("-out", Hook::Output),
    ];
    let rest = name.strip_prefix("uspan-")?;
    ENDS.iter().find(|(end, _)| rest.ends_with(end)).map(|(_, hook)| *hook)
}

impl Ruleset {
    /// The chains that the kernel asks at a hook for a task, in order.
    fn asked(&self, hook: Hook, task: Task, ipv4: bool) -> Vec<&Chain> {
        let there = |base: &Base| base.hook == hook && base.task == task;
        let sees = |chain: &&Chain| (if ipv4 { chain.ipv4 } else { chain.ipv6 }) && chain.base.as_ref().is_some_and(there);
        let mut chains: Vec<_> = self.chains.iter().filter(sees).collect();
        chains.sort_by_key(|chain| chain.base.as_ref().map_or(0, |base| base.order));
        chains
    }

    /// Whether anything in it gives what leaves the gateway's own address.
    pub fn masquerades(&self) -> bool {
        self.chains.iter().flat_map(|chain| &chain.rules).any(|rule| rule.action == Action::Masquerade)
    }

    /// Whether a chain for packets to the gateway or through it drops what none of its rules is for.
    pub fn drops_the_rest(&self) -> bool {
        let drops = |base: &Base| base.drops && base.task == Task::Pass && matches!(base.hook, Hook::Input | Hook::Forward);
        self.chains.iter().any(|chain| chain.base.as_ref().is_some_and(drops))
    }

    /// Whether any chain is asked there whether packets pass.
    pub fn filters(&self, hook: Hook, ipv4: bool) -> bool {
        !self.asked(hook, Task::Pass, ipv4).is_empty()
    }

    /// Whether a chain that is asked there leads to one of a tunnel's.
    pub fn leads_to_own(&self, hook: Hook, ipv4: bool) -> bool {
        let mut open = self.asked(hook, Task::Pass, ipv4);
        let mut seen = BTreeSet::new();
        while let Some(chain) = open.pop() {
            if !seen.insert((&chain.table, &chain.name)) {
                continue;
            }
            for rule in &chain.rules {
                let (Action::Jump(name) | Action::Goto(name)) = &rule.action else { continue };
                if own_chain(name) == Some(hook) {
                    return true;
                }
                open.extend(self.beside(chain, name));
            }
        }
        false
    }

    /// A chain of the same table.
    fn beside(&self, chain: &Chain, name: &str) -> Option<&Chain> {
        let same =
            |other: &&Chain| other.name == name && other.table == chain.table && (other.ipv4 == chain.ipv4 || other.ipv6 == chain.ipv6);
        self.chains.iter().find(same)
    }

    /// What the filter does with a packet; `own` are the rules of tunnels' chains, where one is jumped to.
    pub fn ruling<'a>(&'a self, met: &PacketAt<'_>, own: Option<&'a Filter>) -> Ruling<'a> {
        let mut asking = Asking { ruleset: self, met, own, doubts: Vec::new(), left: MAX_RULES };
        let mut ruling = Ruling::default();
        for chain in self.asked(met.hook, Task::Pass, met.from.addr().is_ipv4()) {
            // Each chain that is asked must let it pass.
            let decided = asking.chain(chain, MAX_JUMPS).unwrap_or(Decider::Chain(chain));
            ruling.decider = Some(decided);
            if !ruling.passes() {
                break;
            }
        }
        let passes = ruling.passes();
        ruling.doubts = asking.doubts;
        ruling.doubts.retain(|rule| match rule.action {
            Action::Accept => !passes,
            Action::Drop => passes,
            _ => true,
        });
        ruling
    }

    /// The rule that translates the source of a packet that leaves, or that keeps the last chain from it; only of chains with
    /// such an order. Where it depends only on the name of an interface that is not known, it may be that one.
    pub fn translation(&self, met: &PacketAt<'_>, orders: impl Fn(i32) -> bool) -> Option<&ChainRule> {
        let chains = self.asked(met.hook, Task::Translate, met.from.addr().is_ipv4());
        let within = chains.into_iter().filter(|chain| chain.base.as_ref().is_some_and(|base| orders(base.order)));
        let mut left = MAX_RULES;
        let mut exempt = None;
        for chain in within {
            match self.translating(chain, met, MAX_JUMPS, &mut left) {
                Some(rule) if rule.translates() => return Some(rule),
                // What ends one chain is nothing to the next one.
                ended => exempt = exempt.or(ended),
            }
        }
        exempt
    }

    /// The rule that ends a chain of translations.
    fn translating<'a>(&'a self, chain: &'a Chain, met: &PacketAt<'_>, jumps: usize, left: &mut usize) -> Option<&'a ChainRule> {
        for rule in &chain.rules {
            *left = left.checked_sub(1)?;
            if rule.holds(met) < Holds::ByInterface {
                continue;
            }
            match &rule.action {
                Action::Accept | Action::Drop | Action::Masquerade | Action::Translate(_) => return Some(rule),
                Action::Return => return (jumps == MAX_JUMPS).then_some(rule),
                Action::Jump(name) | Action::Goto(name) => {
                    let target = self.beside(chain, name).filter(|_| jumps > 0);
                    let found = target.and_then(|target| self.translating(target, met, jumps - 1, left));
                    if found.is_some() || matches!(rule.action, Action::Goto(_)) {
                        return found;
                    }
                }
                Action::Next | Action::Segments(_) | Action::Other => {}
            }
        }
        None
    }
}

/// How deep chains jump at most (nft(8): 16 from a chain that is asked).
const MAX_JUMPS: usize = 16;
/// How many rules are looked at for one packet: chains that jump to each other would go on for ever.
const MAX_RULES: usize = 100_000;

/// A filter that is being asked.
struct Asking<'a, 'm> {
    ruleset: &'a Ruleset,
    met: &'m PacketAt<'m>,
    own: Option<&'a Filter>,
    doubts: Vec<&'a ChainRule>,
    /// How many rules may still be looked at.
    left: usize,
}

impl<'a> Asking<'a, '_> {
    /// What decides in a chain; nothing where it comes to its end.
    fn chain(&mut self, chain: &'a Chain, jumps: usize) -> Option<Decider<'a>> {
        for rule in &chain.rules {
            self.left = self.left.checked_sub(1)?;
            match (rule.holds(self.met), &rule.action) {
                (Holds::No, _) | (_, Action::Next | Action::Segments(_)) => {}
                (Holds::Perhaps | Holds::ByInterface, _) | (Holds::Yes, Action::Other) => self.doubts.push(rule),
                (Holds::Yes, Action::Accept | Action::Drop) => return Some(Decider::Rule(rule)),
                (Holds::Yes, Action::Return) => return None,
                (Holds::Yes, Action::Goto(name)) => return self.jump(chain, name, jumps),
                (Holds::Yes, Action::Jump(name)) => {
                    if let Some(decider) = self.jump(chain, name, jumps) {
                        return Some(decider);
                    }
                }
                (Holds::Yes, Action::Masquerade | Action::Translate(_)) => {}
            }
        }
        None
    }

    fn jump(&mut self, chain: &'a Chain, name: &str, jumps: usize) -> Option<Decider<'a>> {
        let jumps = jumps.checked_sub(1)?;
        if let Some(target) = self.ruleset.beside(chain, name) {
            return self.chain(target, jumps);
        }
        own_chain(name).filter(|hook| *hook == self.met.hook)?;
        self.own?.met_by(self.met).map(Decider::Own)
    }
}

impl PacketAt<'_> {
    /// Whether it is what a rule of a tunnel's asks about it.
    pub(crate) fn fits(&self, protection: &Protection) -> bool {
        match protection {
            Protection::Any => true,
            Protection::Leaving => self.leaving,
            Protection::Arrived => self.arrived,
            Protection::Into(name) => self.into == PassedInterface::Named(name),
            Protection::OutOf(name) => self.out_of == PassedInterface::Named(name),
        }
    }
}

impl ChainRule {
    fn holds(&self, met: &PacketAt<'_>) -> Holds {
        self.tests.iter().map(|test| test.holds(met)).min().unwrap_or(Holds::Yes)
    }

    /// Whether it makes another address of one.
    pub fn translates(&self) -> bool {
        matches!(self.action, Action::Masquerade | Action::Translate(_))
    }

    /// Whether all its conditions are understood.
    pub fn is_clear(&self) -> bool {
        self.action != Action::Other && self.tests.iter().all(|test| test.what != What::Other)
    }
}

impl Test {
    fn holds(&self, met: &PacketAt<'_>) -> Holds {
        match (self.what.holds(met), self.not) {
            (Holds::Yes, true) => Holds::No,
            (Holds::No, true) => Holds::Yes,
            (holds, _) => holds,
        }
    }
}

fn sure(holds: bool) -> Holds {
    if holds { Holds::Yes } else { Holds::No }
}

impl What {
    fn holds(&self, met: &PacketAt<'_>) -> Holds {
        match self {
            What::Source(nets) => within(met.from, nets),
            What::Destination(nets) => within(met.to, nets),
            What::Into(names) => through(met.into, names),
            What::OutOf(names) => through(met.out_of, names),
            What::Ipv4(ipv4) => sure(met.from.addr().is_ipv4() == *ipv4),
            What::Protocol(numbers) => match met.traffic.protocol(met.from.addr().is_ipv4()) {
                Some(number) => sure(numbers.contains(&number)),
                None => Holds::Perhaps,
            },
            What::Port(ports) => met.traffic.to_one_of(ports),
            What::SourcePort(_) => match met.traffic {
                Traffic::Ping | Traffic::Neighbour(_) | Traffic::Esp | Traffic::Gre => Holds::No,
                _ => Holds::Perhaps,
            },
            What::Icmp(types) => match met.traffic {
                // RFC 792 and RFC 4443: the echo request.
                Traffic::Neighbour(kind) => sure(!met.from.addr().is_ipv4() && types.contains(kind)),
                Traffic::Ping => sure(types.contains(if met.from.addr().is_ipv4() { &8 } else { &128 })),
                Traffic::Any | Traffic::Replies => Holds::Perhaps,
                _ => Holds::No,
            },
            What::State(states) => {
                let state = if *met.traffic == Traffic::Replies { State::Established } else { State::New };
                sure(states.contains(&state))
            }
            What::Leaving => sure(met.leaving),
            What::Arrived => sure(met.arrived),
            What::Rate { over, .. } => sure(!over),
            What::Other => Holds::Perhaps,
        }
    }
}

fn within(net: IpNet, nets: &[IpNet]) -> Holds {
    if nets.iter().any(|one| one.contains(&net)) {
        Holds::Yes
    } else if nets.iter().any(|one| net.contains(one)) {
        Holds::Perhaps
    } else {
        Holds::No
    }
}

fn through(face: PassedInterface<'_>, names: &[String]) -> Holds {
    let fits = |one: &String, name: &str| one.strip_suffix('*').map_or(one == name, |start| name.starts_with(start));
    match face {
        PassedInterface::None => Holds::No,
        PassedInterface::Named(name) => sure(names.iter().any(|one| fits(one, name))),
        // The one interface that is never meant is the gateway's own talk with itself.
        PassedInterface::Unknown if names.iter().all(|name| name == "lo") => Holds::No,
        PassedInterface::Unknown => Holds::ByInterface,
    }
}

impl Traffic {
    /// The IP protocol (IANA protocol numbers), where it is one.
    pub fn protocol(&self, ipv4: bool) -> Option<u8> {
        Some(match self {
            Traffic::Ping if ipv4 => 1,
            Traffic::Ping | Traffic::Neighbour(_) => 58,
            Traffic::To(transport, _) => transport.number(),
            Traffic::Udp(_) => Transport::Udp.number(),
            Traffic::Esp => 50,
            Traffic::Gre => super::GRE,
            Traffic::Any | Traffic::Replies => return None,
        })
    }

    fn to_one_of(&self, ports: &[Ports]) -> Holds {
        let covers = |first: u16, last: u16| ports.iter().any(|one| one.first <= first && last <= one.last);
        let touches = |first: u16, last: u16| ports.iter().any(|one| one.first <= last && first <= one.last);
        match self {
            Traffic::Udp(list) if list.iter().all(|port| covers(*port, *port)) => Holds::Yes,
            Traffic::Udp(list) if list.iter().any(|port| covers(*port, *port)) => Holds::Perhaps,
            Traffic::To(_, range) if covers(range.first, range.last) => Holds::Yes,
            Traffic::To(_, range) if touches(range.first, range.last) => Holds::Perhaps,
            Traffic::Any | Traffic::Replies => Holds::Perhaps,
            _ => Holds::No,
        }
    }
}

//! The Child SAs: selectors, proposals, PFS, mode.

use std::collections::{HashMap, HashSet};

use ipnet::IpNet;

use super::connection::lifetimes;
use super::offers;
use super::{Assessment, ComparedEnd, Comparing, Shown, best};
use crate::fits::proposals::{agreeable, differing};
use uspan_model::algorithm::Kind;
use uspan_model::duration::duration_words;
use uspan_model::effort::steps;
use uspan_model::gateway::{Child, Dscp, IkeVersion, Mode, Proposal, ReadAt, Setting, alternatives, listed};
use uspan_model::parameter::Parameter;

impl Comparing<'_> {
    pub(super) fn children(&mut self) {
        let [left, right] = self.sides.map(|side| side.connection);
        let several = left.children.len() > 1 || right.children.len() > 1;
        let [mut ours, mut theirs]: [Vec<&Child>; 2] = [left, right].map(|connection| connection.children.iter().collect());
        // Most fit exactly: those are found by what they have in common, however many there are.
        let mut pairs = alike(&mut ours, &mut theirs, self.crossed);
        // The best fits of the rest find each other first.
        while ours.len() * theirs.len() < MOST_FITS
            && let Some((one, other)) = best(&ours, &theirs, |one, other| closeness(one, other, self.crossed))
        {
            pairs.push((ours.remove(one), theirs.remove(other)));
        }
        let places: HashMap<*const Child, usize> =
            left.children.iter().enumerate().map(|(i, child)| (std::ptr::from_ref(child), i)).collect();
        pairs.sort_by_key(|(one, _)| places.get(&std::ptr::from_ref(*one)).copied());
        for (one, other) in pairs {
            self.child = several.then(|| one.name.clone());
            self.children = [one, other].map(|child| Some(child.name.clone()));
            self.child(one, other);
        }
        ours.into_iter().for_each(|child| self.unmatched(0, child));
        theirs.into_iter().for_each(|child| self.unmatched(1, child));
        (self.child, self.children) = (None, [None, None]);
    }

    /// A Child SA that the other end does not have.
    fn unmatched(&mut self, end: usize, child: &Child) {
        let mut values = [super::plain("not there"), super::plain("not there")];
        let turned = self.crossed && end == 1;
        values[end] = self.sides[end].shown(&child.local, pair_words(child, turned));
        let verdict = Assessment::fatal("What it is for does not cross: TS_UNACCEPTABLE.", "Add it at the other end, or remove it here.");
        self.child = Some(child.name.clone());
        self.children = [0, 1].map(|at| (at == end).then(|| child.name.clone()));
        self.add(Parameter::Selectors, values, verdict);
    }

    fn child(&mut self, one: &Child, other: &Child) {
        self.selectors(one, other);
        let version = self.sides[0].connection.version();
        let names = self.names().map(str::to_owned);
        self.two(
            Parameter::EspProposals,
            [&one.esp, &other.esp],
            |list| offers::words(&list.iter().map(Proposal::protection).collect::<Vec<_>>()),
            |a, b| {
                let (a, b) = (first_exchange(a), first_exchange(b));
                Assessment::unless(a == b && !a.is_empty(), || {
                    offers::judge(&names, &a, &b, "NO_PROPOSAL_CHOSEN for ESP: an IKE SA without an ESP SA")
                })
            },
        );
        self.pfs(one, other, version);
        let words = |mode: &Mode| mode.words().to_owned();
        self.two(Parameter::EspMode, [&one.mode, &other.mode], words, |a, b| {
            Assessment::unless(a == b, || {
                Assessment::fatal(
                    "Transport mode is not granted, or not asked for: no ESP SA, or none that carries anything.",
                    "Choose one mode at both ends.",
                )
            })
        });
        let words = |dscp: &Dscp| match dscp {
            Dscp::Outwards => "copied outwards".to_owned(),
            Dscp::Both => "copied both ways".to_owned(),
            Dscp::Never => "not copied".to_owned(),
        };
        self.two(Parameter::Dscp, [&one.dscp, &other.dscp], words, |a, b| {
            Assessment::unless(a == b, || Assessment::compatible("Each end has its own way; what the path sees differs by direction."))
        });
        type Limits = (Option<u8>, [Option<u16>; 2]);
        let words = |(protocol, [own, far]): &Limits| {
            let port = |port: &Option<u16>| port.map_or("any".to_owned(), |port| port.to_string());
            let ports = if (own, far) == (&None, &None) { String::new() } else { format!(", port {} to port {}", port(own), port(far)) };
            protocol.map_or("any".to_owned(), |number| format!("IP protocol {number}{ports}"))
        };
        let limits = |child: &Child| child.protocol.clone().map(|protocol| (protocol, child.ports.value));
        let crossed = self.crossed;
        self.two(Parameter::Protocol, [&limits(one), &limits(other)], words, |(a, [own, far]), (b, [theirs, here])| {
            let ports = if crossed { (own, far) == (here, theirs) } else { (own, far) == (theirs, here) };
            Assessment::unless(a == b && ports, || {
                Assessment::fatal("The selectors do not fit: TS_UNACCEPTABLE.", "Limit both ends to the same protocol and ports, or none.")
            })
        });
        self.two(
            Parameter::EspLifetime,
            [&one.lifetime, &other.lifetime],
            |life| duration_words(life.hard),
            |a, b| Assessment::unless(a.hard == b.hard, || Assessment::compatible(lifetimes(version))),
        );
        let numbers = |child: &Child| placed(child, &child.sequence_numbers).map(|_| child.clone());
        self.two(Parameter::SequenceNumbers, [&numbers(one), &numbers(other)], Child::sequence_numbers_words, |a, b| {
            let fits = differing(&a.sequence_numbers(), &b.sequence_numbers()).is_empty();
            Assessment::unless(a.sequence_numbers() == b.sequence_numbers(), || match fits {
                true => Assessment::compatible("They take what both have."),
                false => Assessment::fatal("NO_PROPOSAL_CHOSEN for ESP: no ESP SA.", "Say the same at both ends."),
            })
        });
        self.two(
            Parameter::ReplayWindow,
            [&one.replay_window, &other.replay_window],
            |packets| format!("{packets} packets"),
            |a, b| Assessment::unless(a == b, || Assessment::compatible("Each end has its own for what arrives.")),
        );
    }

    /// A setting of a Child SA at both ends.
    fn two<T>(
        &mut self,
        parameter: Parameter,
        settings: [&Setting<T>; 2],
        words: impl Fn(&T) -> String,
        judge: impl FnOnce(&T, &T) -> Assessment,
    ) {
        let [left, right] = self.sides;
        let values = [left.shown(settings[0], words(&settings[0].value)), right.shown(settings[1], words(&settings[1].value))];
        let verdict = judge(&settings[0].value, &settings[1].value);
        self.add(parameter, values, verdict);
    }

    fn selectors(&mut self, one: &Child, other: &Child) {
        let sides = self.sides;
        let shown = |side: &ComparedEnd<'_>, child: &Child, turned: bool| -> Shown {
            let mut shown = side.shown(&child.local, pair_words(child, turned));
            let far = side.shown(&child.remote, String::new());
            if far.spelling != shown.spelling {
                shown.spelling = shown.spelling.zip(far.spelling).map(|(near, far)| format!("{near}, {far}"));
            }
            shown
        };
        let values = [shown(&sides[0], one, false), shown(&sides[1], other, self.crossed)];
        let (near, far) = if self.crossed { (&other.remote.value, &other.local.value) } else { (&other.local.value, &other.remote.value) };
        let same = |a: &[IpNet], b: &[IpNet]| a.iter().all(|net| b.contains(net)) && b.iter().all(|net| a.contains(net));
        let verdict = Assessment::unless(same(&one.local.value, near) && same(&one.remote.value, far), || {
            let straight = same(&one.local.value, far) && same(&one.remote.value, near);
            let shared = |a: &[IpNet], b: &[IpNet]| -> Vec<String> {
                let part = |x: &IpNet, y: &IpNet| if y.contains(x) { Some(*x) } else { x.contains(y).then_some(*y) };
                a.iter().flat_map(|x| b.iter().filter_map(move |y| part(x, y))).map(|net| net.to_string()).collect()
            };
            let (here, there) = (shared(&one.local.value, near), shared(&one.remote.value, far));
            if straight && self.crossed {
                return Assessment::fatal(
                    "Both ends have the same networks as their own, so one has them crossed: TS_UNACCEPTABLE, an IKE SA without an ESP SA.",
                    "Exchange own and remote networks at one end.",
                );
            }
            if here.is_empty() || there.is_empty() {
                return Assessment::fatal(
                    "They have nothing in common: TS_UNACCEPTABLE, an IKE SA without an ESP SA.",
                    "What is local at one end must be remote at the other, network by network.",
                );
            }
            Assessment::fatal(
                format!(
                    "At best the common part crosses ({} to {}) where the responder narrows (RFC 7296 section 2.9); others answer TS_UNACCEPTABLE.",
                    here.join(", "),
                    there.join(", ")
                ),
                "Write the same networks, with the same lengths, at both ends.",
            )
        });
        self.add(Parameter::Selectors, values, verdict);
    }

    /// In IKEv2 the first Child SA comes without a group of its own (RFC 7296 section 1.2), so that it shows later.
    fn pfs(&mut self, one: &Child, other: &Child, version: IkeVersion) {
        let words = |list: &Vec<Proposal>| {
            let mut groups: Vec<String> = Vec::new();
            for proposal in list {
                let of = alternatives(proposal.of(Kind::KeyExchange));
                let text = if of.is_empty() { "off".to_owned() } else { of };
                if !groups.contains(&text) {
                    groups.push(text);
                }
            }
            groups.join("\n")
        };
        let rekey = duration_words(one.lifetime.value.soft().min(other.lifetime.value.soft()));
        self.two(Parameter::Pfs, [&placed(one, &one.pfs), &placed(other, &other.pfs)], words, |a, b| {
            let fits = agreeable(&first_exchange(a), &first_exchange(b));
            let shares = |(i, j): &(usize, usize)| !differing(&a[*i], &b[*j]).contains(&Kind::KeyExchange);
            // Without a common proposal there is no SA that could be rekeyed.
            Assessment::unless(fits.is_empty() || fits.iter().any(shares), || {
                let practice = match version {
                    IkeVersion::V2 => format!("The tunnel comes up and works until its first rekey, after about {rekey}; that is answered with NO_PROPOSAL_CHOSEN."),
                    IkeVersion::V1 => "Quick mode is answered with NO-PROPOSAL-CHOSEN: no ESP SA.".to_owned(),
                };
                Assessment::fatal(practice, "Choose the same group at both ends, or none at both.")
            })
        });
    }
}

/// Proposals without their groups and sequence numbers, which are parameters of their own.
fn first_exchange(list: &[Proposal]) -> Vec<Proposal> {
    list.iter().map(|proposal| proposal.without(Kind::KeyExchange).without(Kind::SequenceNumbers)).collect()
}

/// The proposals of a Child SA, at the place where a part of them is said if that stands elsewhere.
fn placed(child: &Child, whence: &ReadAt) -> Setting<Vec<Proposal>> {
    match &whence.0 {
        Some(place) => Setting::stated(child.esp.value.clone(), place.clone()),
        None => child.esp.clone(),
    }
}

/// What a Child SA carries, from the networks of the first end to those of the second.
fn pair_words(child: &Child, turned: bool) -> String {
    let (one, other) = if turned { (&child.remote.value, &child.local.value) } else { (&child.local.value, &child.remote.value) };
    format!("{} ⇄ {}", listed(one), listed(other))
}

/// How well two Child SAs fit: the same, overlapping, crossed, or not at all.
/// More combinations of Child SAs without an exact counterpart than anybody looks through.
const MOST_FITS: usize = 40_000;

/// Takes out those of two lists that have the same selectors, in their order.
fn alike<'a>(ours: &mut Vec<&'a Child>, theirs: &mut Vec<&'a Child>, crossed: bool) -> Vec<(&'a Child, &'a Child)> {
    let selectors = |child: &'a Child, turned: bool| {
        let (near, far) = (child.local.value.as_slice(), child.remote.value.as_slice());
        if turned { (far, near) } else { (near, far) }
    };
    steps(ours.len() + theirs.len());
    let mut known: HashMap<_, Vec<&Child>> = HashMap::new();
    for child in theirs.iter().rev() {
        known.entry(selectors(child, crossed)).or_default().push(child);
    }
    let (mut pairs, mut rest, mut taken) = (Vec::new(), Vec::new(), HashSet::new());
    for one in ours.drain(..) {
        match known.get_mut(&selectors(one, false)).and_then(Vec::pop) {
            Some(other) => {
                taken.insert(std::ptr::from_ref(other));
                pairs.push((one, other));
            }
            None => rest.push(one),
        }
    }
    *ours = rest;
    theirs.retain(|other| !taken.contains(&std::ptr::from_ref(*other)));
    pairs
}

fn closeness(one: &Child, other: &Child, crossed: bool) -> usize {
    let (near, far) = if crossed { (&other.remote.value, &other.local.value) } else { (&other.local.value, &other.remote.value) };
    let overlap = |a: &[IpNet], b: &[IpNet]| a.iter().any(|x| b.iter().any(|y| x.contains(y) || y.contains(x)));
    let each = [(&one.local.value, near), (&one.remote.value, far)];
    let fit: usize = each.iter().map(|(a, b)| if a == b { 4 } else { usize::from(overlap(a, b)) * 2 }).sum();
    fit + usize::from(one.name == other.name)
}

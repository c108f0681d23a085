//! The negotiation as the judge: what it fails for is fatal, and nothing else of what it decides.
//!
//! It is rehearsed; what it fails for is put right, and it is rehearsed again, until it comes up. So each parameter is judged as the
//! daemons of the two ends treat it, and those that only show behind another one are found, too.

use super::{ComparedPair, ComparedParameter, Comparison, Gravity, plain};
use crate::actor::{Actor, ReadGateway};
use crate::rehearse::{Cause, Rehearsal, RehearsalFailure, outcome_only};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{
    Child, Connection, Endpoint, Gateway, Identity, Method, Mode, Proposal, Protocol, Ruleset, Setting, SharedSecret,
};
use uspan_model::pairing::Pairing;
use uspan_model::parameter::Parameter;
use uspan_model::secret::Secret;

/// More rounds than there are parameters that can hide behind each other.
const MOST_ROUNDS: usize = 24;

/// What a negotiation fails for, and how it looks.
struct Failing {
    cause: Cause,
    practice: String,
    remedy: String,
}

impl Failing {
    /// What a failure is for.
    fn of(failure: &RehearsalFailure, names: [&str; 2]) -> impl Iterator<Item = Failing> {
        let practice = format!("{} What one sees: {}.", failure.reason, failure.practice);
        let cures = failure.cures.iter().map(|cure| format!("{}: {}", names[cure.end], cure.what)).collect::<Vec<_>>();
        let remedy = cures.join("; ");
        failure.causes.iter().map(move |cause| Failing { cause: cause.clone(), practice: practice.clone(), remedy: remedy.clone() })
    }

    /// A Child SA that carries less than one of the two ends says, or something else.
    fn of_lesser(rehearsal: &Rehearsal) -> impl Iterator<Item = Failing> {
        rehearsal.opened.iter().filter(|opened| !opened.whole).map(|opened| {
            let children = opened.names.each_ref().map(|name| Some(name.clone()));
            Failing {
                cause: Cause { children, ..Parameter::Selectors.into() },
                practice: "It comes up, and carries less than one of the two says, or something else.".to_owned(),
                remedy: "Write the same networks, with the same lengths, at both ends.".to_owned(),
            }
        })
    }

    fn all(rehearsal: &Rehearsal, names: [&str; 2]) -> Vec<Failing> {
        let failures = rehearsal.failures.iter().flat_map(|failure| Failing::of(failure, names));
        failures.chain(Failing::of_lesser(rehearsal)).collect()
    }
}

/// What the negotiation of a pair comes to.
struct PairVerdict<'a> {
    fails: &'a [Failing],
    /// Whether it comes up with that put right, so that nothing else is to blame.
    put_right: bool,
    initiator: usize,
    /// What it fails for from the other end.
    other_way: &'a [Failing],
}

/// Says of each parameter that the negotiation decides whether it fails for that.
pub(super) fn judge(actors: [Actor<'_>; 2], comparison: &mut Comparison) {
    let gateways = actors.each_ref().map(|actor| actor.reading.gateway);
    let couples = Pairing::of(gateways, actors.each_ref().map(|actor| actor.reading.ends_open), true);
    // With all that the gateways have: another connection may answer.
    let whole = outcome_only(actors, None).all;
    for ((pair, (one, other)), first) in comparison.pairs.iter_mut().zip(couples.pairs()).zip(&whole) {
        if !first.doubts.is_empty() {
            unsure(pair, first);
            continue;
        }
        let (fails, put_right) = match first.works() {
            true => (Vec::new(), true),
            false => failing(actors, [one, other], first),
        };
        let turned = fails.is_empty() && pair.parameters.iter().any(|row| row.parameter.is_negotiated() && row.gravity != Gravity::Equal);
        let other_way = if turned { the_other_way(actors, [one, other], first.initiator) } else { Vec::new() };
        let verdict = PairVerdict { fails: &fails, put_right, initiator: first.initiator, other_way: &other_way };
        told(pair, actors.map(|actor| actor.reading.name), &verdict);
    }
}

/// Where the negotiation comes to no verdict, what it decides is not known either.
fn unsure(pair: &mut ComparedPair, rehearsal: &Rehearsal) {
    let because = rehearsal
        .doubts
        .first()
        .map_or_else(String::new, |doubt| format!("Whether it fits cannot be said: {} is not understood.", doubt.about));
    for row in pair.parameters.iter_mut().filter(|row| row.parameter.is_negotiated() && row.gravity == Gravity::Fatal) {
        row.gravity = Gravity::Unknown;
        row.practice.clone_from(&because);
        row.remedy = String::new();
    }
    pair.parameters.sort_by_key(|row| row.gravity);
    pair.doubts.clone_from(&rehearsal.doubts);
}

/// All that a negotiation fails for: behind what it fails for at first, what it would fail for next; and whether it comes up with all
/// that put right.
fn failing(actors: [Actor<'_>; 2], connections: [&Connection; 2], first: &Rehearsal) -> (Vec<Failing>, bool) {
    let names = actors.map(|actor| actor.reading.name);
    let mut parts = [0, 1].map(|end| actors[end].reading.gateway.part_of(connections[end]));
    let mut found: Vec<Failing> = Vec::new();
    let mut now = Failing::all(first, names);
    for _ in 0..MOST_ROUNDS {
        let before = found.len();
        for failing in now {
            put_right(&mut parts, &actors, &failing.cause);
            if !found.iter().any(|known| known.cause == failing.cause) {
                found.push(failing);
            }
        }
        // Where it still fails for the same it cannot be put right.
        if found.len() == before {
            return (found, false);
        }
        let healed = |end: usize| Actor { reading: ReadGateway { gateway: &parts[end], ..actors[end].reading }, ..actors[end] };
        let came = outcome_only([healed(0), healed(1)], Some(first.initiator)).all;
        now = came.iter().flat_map(|rehearsal| Failing::all(rehearsal, names)).collect();
        if now.is_empty() {
            return (found, true);
        }
    }
    (found, false)
}

/// What it fails for where the other end opens, if that can.
fn the_other_way(actors: [Actor<'_>; 2], connections: [&Connection; 2], initiator: usize) -> Vec<Failing> {
    let other = 1 - initiator;
    if connections[other].remote.value == Endpoint::Anywhere {
        return Vec::new();
    }
    let parts = [0, 1].map(|end| actors[end].reading.gateway.part_of(connections[end]));
    let of = |end: usize| Actor { reading: ReadGateway { gateway: &parts[end], ..actors[end].reading }, ..actors[end] };
    let came = outcome_only([of(0), of(1)], Some(other)).all;
    came.iter().flat_map(|rehearsal| Failing::all(rehearsal, actors.map(|actor| actor.reading.name))).collect()
}

/// Whether a row is about what a negotiation fails for.
fn concerns(row: &ComparedParameter, cause: &Cause) -> bool {
    let child = |end: usize| cause.children[end].is_some() && row.children[end] == cause.children[end];
    let children = cause.children == [None, None] || child(0) || child(1);
    row.parameter == cause.parameter && (cause.of.is_none() || row.of.is_none() || row.of == cause.of) && children
}

/// Puts it into the rows of a pair.
fn told(pair: &mut ComparedPair, names: [&str; 2], verdict: &PairVerdict<'_>) {
    let PairVerdict { fails, put_right, initiator, other_way } = *verdict;
    for row in pair.parameters.iter_mut().filter(|row| row.parameter.is_negotiated()) {
        let failing = fails.iter().find(|failing| concerns(row, &failing.cause));
        match (failing, row.gravity) {
            (Some(_), Gravity::Fatal) => {}
            (Some(failing), _) => {
                (row.practice, row.remedy) = (failing.practice.clone(), failing.remedy.clone());
                row.gravity = Gravity::Fatal;
            }
            (None, Gravity::Fatal) if put_right => {
                row.gravity = Gravity::Compatible;
                row.remedy = String::new();
                row.practice = match other_way.iter().find(|failing| concerns(row, &failing.cause)) {
                    Some(failing) => {
                        format!("Fine as long as {} opens. From {}: {}", names[initiator], names[1 - initiator], failing.practice)
                    }
                    None => "One of the two does not insist on it: they come to terms all the same.".to_owned(),
                };
            }
            (None, _) => {}
        }
    }
    // What stands in no row, such as a Child SA that takes up another one's.
    for failing in fails {
        let cause = &failing.cause;
        if pair.parameters.iter().any(|row| row.gravity == Gravity::Fatal && concerns(row, cause)) {
            continue;
        }
        pair.parameters.push(ComparedParameter {
            parameter: cause.parameter,
            of: cause.of,
            name: cause
                .of
                .map_or_else(|| cause.parameter.words().to_owned(), |end| format!("{} of {}", cause.parameter.words(), names[end])),
            child: cause.children.iter().flatten().next().cloned(),
            children: cause.children.clone(),
            values: [plain("see below"), plain("see below")],
            gravity: Gravity::Fatal,
            practice: failing.practice.clone(),
            remedy: failing.remedy.clone(),
        });
    }
    pair.parameters.sort_by_key(|row| row.gravity);
}

/// Changes the gateways so that they fit in a parameter, and as little else as can be: what else does not fit is to show.
fn put_right(parts: &mut [Gateway; 2], actors: &[Actor<'_>; 2], cause: &Cause) {
    match (cause.parameter, cause.of) {
        (Parameter::KeyExchange | Parameter::ExchangeMode, _) => {
            let said = parts[0].connections[0].ike().exchange.value;
            parts[1].connections[0].ike_mut().exchange.value = said;
        }
        (Parameter::Address, Some(end)) => address(parts, actors, end),
        (Parameter::Identity, Some(end)) => identity(parts, end),
        (Parameter::Authentication, Some(end)) => {
            let method = parts[end].connections[0].ike().local_method.value;
            parts[1 - end].connections[0].ike_mut().remote_method.value = method;
        }
        (Parameter::SharedSecret, _) => one_secret(parts),
        (Parameter::Key, Some(end)) => {
            parts[end].connections[0].ike_mut().local_method.value = Method::SharedSecret;
            parts[1 - end].connections[0].ike_mut().remote_method.value = Method::SharedSecret;
            if parts.iter().any(|part| part.secret_for(&part.connections[0]).is_none()) {
                one_secret(parts);
            }
        }
        (Parameter::IkeProposals, _) => {
            let said = parts[0].connections[0].ike().proposals.clone();
            parts[1].connections[0].ike_mut().proposals = said;
        }
        (Parameter::Entrance, Some(end)) => (parts[end].filter, parts[end].ruleset) = (None, Ruleset::default()),
        (Parameter::Selectors, _) => selectors(parts, cause),
        (parameter, _) => {
            for child in children(parts, cause) {
                match parameter {
                    Parameter::EspMode => child.mode.value = Mode::Tunnel,
                    Parameter::Protocol => (child.protocol.value, child.ports.value) = (None, [None, None]),
                    Parameter::Pfs => child.esp.value.iter_mut().for_each(|one| *one = one.without(Kind::KeyExchange)),
                    Parameter::SequenceNumbers => {
                        child.esp.value.iter_mut().for_each(|one| one.set(Kind::SequenceNumbers, [Transform::sequence_numbers(false)]));
                    }
                    _ => child.esp.value = vec![protected(child)],
                }
            }
        }
    }
}

/// A proposal that both can have, with the groups and sequence numbers of a Child SA.
fn protected(child: &Child) -> Proposal {
    let beside = child.groups().transforms().iter().chain(child.sequence_numbers().transforms()).copied().collect::<Vec<_>>();
    Proposal::new(Protocol::Esp, std::iter::once(Transform::encryption(20, 256)).chain(beside))
}

/// The Child SAs that a cause names; all where it names none.
fn children<'a>(parts: &'a mut [Gateway; 2], cause: &'a Cause) -> impl Iterator<Item = &'a mut Child> {
    let any = cause.children == [None, None];
    parts.iter_mut().zip(&cause.children).flat_map(move |(part, named)| {
        let children = part.connections.iter_mut().flat_map(|connection| &mut connection.children);
        children.filter(move |child| any || named.as_ref() == Some(&child.name))
    })
}

/// The peer gets to know where an end really is; where nobody knows that, both take an address for it.
fn address(parts: &mut [Gateway; 2], actors: &[Actor<'_>; 2], end: usize) {
    let stands = actors[end].stands;
    let said = parts[end].connections[0].local.value.address();
    let wanted = parts[1 - end].connections[0].remote.value.address();
    let own = stands.own.or(said).or(wanted).unwrap_or_else(|| std::net::IpAddr::from([192, 0, 2, 1 + end as u8]));
    parts[end].connections[0].local.value = Endpoint::At(own);
    parts[1 - end].connections[0].remote.value = Endpoint::At(stands.reached.unwrap_or(own));
}

/// The peer expects an end as the one that it says to be. What is kept by identity goes along.
fn identity(parts: &mut [Gateway; 2], end: usize) {
    let secrets = parts.each_ref().map(|part| part.secret_for(&part.connections[0]).cloned());
    let said = match &parts[end].connections[0].ike().local_identity.value {
        Identity::Implied(_) | Identity::Anybody => Identity::Free("whoever it is".to_owned()),
        said => said.clone(),
    };
    let before =
        [parts[end].connections[0].ike().local_identity.value.clone(), parts[1 - end].connections[0].ike().remote_identity.value.clone()];
    parts[end].key_pairs.iter_mut().filter(|pair| pair.identity == before[0]).for_each(|pair| pair.identity = said.clone());
    parts[1 - end].pinned.iter_mut().filter(|pinned| pinned.identity == before[1]).for_each(|pinned| pinned.identity = said.clone());
    parts[end].connections[0].ike_mut().local_identity = Setting::planned(said.clone());
    parts[1 - end].connections[0].ike_mut().remote_identity = Setting::planned(said);
    for (part, secret) in parts.iter_mut().zip(secrets) {
        part.secrets = secret.into_iter().map(|secret| SharedSecret::between([], secret)).collect();
    }
}

/// Both ends have the same secret, for anybody.
fn one_secret(parts: &mut [Gateway; 2]) {
    let known = parts.iter().find_map(|part| part.secret_for(&part.connections[0]).cloned());
    let secret = known.unwrap_or_else(|| Secret::new(b"some secret or other".to_vec()));
    parts.iter_mut().for_each(|part| part.secrets = vec![SharedSecret::between([], secret.clone())]);
}

/// The second end's Child SA gets the selectors of the first one's, crossed; where one has no counterpart it gets one.
fn selectors(parts: &mut [Gateway; 2], cause: &Cause) {
    let place = |end: usize| {
        let name = cause.children[end].as_ref()?;
        parts[end].connections[0].children.iter().position(|child| child.name == *name)
    };
    match (place(0), place(1)) {
        (Some(one), Some(other)) => {
            let said = parts[0].connections[0].children[one].clone();
            let child = &mut parts[1].connections[0].children[other];
            let [own, far] = said.ports.value;
            (child.local, child.remote, child.protocol) = (said.remote, said.local, said.protocol);
            child.ports.value = [far, own];
        }
        (Some(one), None) => counterpart(parts, 0, one),
        (None, Some(other)) => counterpart(parts, 1, other),
        (None, None) => {}
    }
}

fn counterpart(parts: &mut [Gateway; 2], end: usize, child: usize) {
    let said = parts[end].connections[0].children[child].clone();
    let name = format!("{} of the other end", said.name);
    let ports = said.ports.clone().map(|[own, far]| [far, own]);
    parts[1 - end].connections[0].children.push(Child { name, local: said.remote, remote: said.local, ports, ..said });
}

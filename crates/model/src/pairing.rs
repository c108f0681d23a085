//! Connections of two gateways that belong together: the two ends of one tunnel, or the same end twice.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

use crate::effort::steps;
use crate::gateway::{Connection, Endpoint, Gateway, Identity};

/// Which connections of two gateways belong together.
pub struct Pairing<'a> {
    /// The connections of each, the ends put right where a gateway's files leave open which one is its own.
    connections: [Cow<'a, [Connection]>; 2],
    pairs: Vec<(usize, usize)>,
    alone: [Vec<usize>; 2],
}

impl<'a> Pairing<'a> {
    /// Finds them. `open`: whether the files leave open which end of a connection is the gateway's own; `crossed`: the
    /// two are ends of tunnels, not the same end twice.
    pub fn of(gateways: [&'a Gateway; 2], open: [bool; 2], crossed: bool) -> Pairing<'a> {
        let connections = gateways.map(|gateway| Cow::Borrowed(gateway.connections.as_slice()));
        let connections = if crossed { oriented(connections, open) } else { connections };
        let [ours, theirs] = &connections;
        // Most fit exactly: those are found by what they have in common, however many there are.
        let mut known: BTreeMap<Likeness<'_>, Vec<usize>> = BTreeMap::new();
        for (i, other) in theirs.iter().enumerate().rev() {
            known.entry(likeness(other, crossed)).or_default().push(i);
        }
        let (mut pairs, mut waiting) = (Vec::new(), Vec::new());
        for (i, one) in ours.iter().enumerate() {
            match known.get_mut(&likeness(one, false)).and_then(Vec::pop) {
                Some(other) => pairs.push((i, other)),
                None => waiting.push(i),
            }
        }
        let left_over: BTreeSet<usize> = known.into_values().flatten().collect();
        let mut free: Vec<usize> = left_over.into_iter().collect();
        // The best fits of the rest find each other first, so that a stranger takes nobody's counterpart.
        while waiting.len() * free.len() < MOST_FITS
            && let Some((one, other)) = best(&waiting, &free, |one, other| kinship(&ours[*one], &theirs[*other], crossed))
        {
            // Two that have nothing in common are a pair only where there is no choice.
            let only = waiting.len() == 1 && free.len() == 1 && pairs.is_empty();
            if kinship(&ours[waiting[one]], &theirs[free[other]], crossed) == 0 && !only {
                break;
            }
            pairs.push((waiting.remove(one), free.remove(other)));
        }
        Pairing { pairs, alone: [waiting, free], connections }
    }

    /// Those that belong together.
    pub fn pairs(&self) -> impl Iterator<Item = (&Connection, &Connection)> {
        self.pairs.iter().map(|(one, other)| (&self.connections[0][*one], &self.connections[1][*other]))
    }

    /// Those of each gateway without a counterpart.
    pub fn alone(&self) -> [Vec<&Connection>; 2] {
        [0, 1].map(|end| self.alone[end].iter().map(|i| &self.connections[end][*i]).collect())
    }

    /// All connections of a gateway.
    pub fn connections(&self, end: usize) -> &[Connection] {
        &self.connections[end]
    }
}

/// More combinations of connections without an exact counterpart than anybody looks through.
const MOST_FITS: usize = 1_000_000;

/// What two connections that belong together have in common: addresses and identities, own and peer's.
type Likeness<'a> = [(&'a Endpoint, &'a Identity); 2];

/// The same for both ends where the second one is turned round.
fn likeness(connection: &Connection, turned: bool) -> Likeness<'_> {
    let own = (&connection.local.value, &connection.ike().local_identity.value);
    let peer = (&connection.remote.value, &connection.ike().remote_identity.value);
    if turned { [peer, own] } else { [own, peer] }
}

/// The two of two lists that fit best, as indices; the first ones, where several fit alike.
pub fn best<T>(ours: &[T], theirs: &[T], fit: impl Fn(&T, &T) -> usize) -> Option<(usize, usize)> {
    steps(ours.len() * theirs.len());
    let all = ours.iter().enumerate().flat_map(|(i, one)| theirs.iter().enumerate().map(move |(j, other)| (i, j, one, other)));
    all.max_by_key(|(i, j, one, other)| (fit(one, other), usize::MAX - i, usize::MAX - j)).map(|(i, j, ..)| (i, j))
}

/// Where both name the same end their own, the one whose files leave that open means the other end.
fn oriented<'a>([mut ours, mut theirs]: [Cow<'a, [Connection]>; 2], open: [bool; 2]) -> [Cow<'a, [Connection]>; 2] {
    let ends = |c: &Connection| c.local.value.address().zip(c.remote.value.address());
    let alike = |one: &Connection, other: &Connection| ends(one).is_some() && ends(one) == ends(other);
    let turn = |list: &mut Cow<'a, [Connection]>, others: &[Connection]| {
        for i in 0..list.len() {
            if others.iter().any(|other| alike(&list[i], other)) {
                let turned = list[i].clone().turned();
                list.to_mut()[i] = turned;
            }
        }
    };
    match open {
        [_, true] => turn(&mut theirs, &ours),
        [true, false] => turn(&mut ours, &theirs),
        [false, false] => {}
    }
    [ours, theirs]
}

/// How much two connections have in common: addresses, identities, name.
fn kinship(one: &Connection, other: &Connection, crossed: bool) -> usize {
    let ends = |c: &Connection| [c.local.value.clone(), c.remote.value.clone()];
    let ids = |c: &Connection| [c.ike().local_identity.value.clone(), c.ike().remote_identity.value.clone()];
    let (mut their_ends, mut their_ids) = (ends(other), ids(other));
    if crossed {
        their_ends.reverse();
        their_ids.reverse();
    }
    let alike = |same: bool, worth: usize| if same { worth } else { 0 };
    let places = ends(one).iter().zip(&their_ends).filter(|(a, b)| a == b && a.address().is_some()).count();
    // Who takes anybody, or does not say who it is, may be meant; who expects somebody else is not.
    let is_open = |id: &Identity| matches!(id, Identity::Anybody | Identity::Implied(_));
    let named = |(a, b): (&Identity, &Identity)| if a == b { 4 } else { alike(is_open(a) || is_open(b), 1) };
    let names: usize = ids(one).iter().zip(&their_ids).map(named).sum();
    4 * places + names + alike(one.name == other.name, 1)
}

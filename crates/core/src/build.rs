//! The whole way for a description: check, agree, take sides, write, read back, hold against each
//! other. Trees of files come out only if everything fits.

use std::collections::{BTreeMap, HashSet};

use ipnet::IpNet;

use uspan_description::agreement::{Agreement, agree};
use uspan_description::check::{Supplied, check};
use uspan_description::description::{Description, Network, Site, Tunnel};
use uspan_description::sides::{End, Proofs, Side, UncarriedPair, cross_check, take_sides, uncarried};
use uspan_dialects::context::Context;
use uspan_dialects::dialect::{Unwritable, gate};
use uspan_dialects::network;
use uspan_dialects::packet_filter::{FoundRules, PacketFilter, write_rules};
use uspan_dialects::profile::{EqualSelectors, OwnEnd, Profile};
use uspan_dialects::routing;
use uspan_judge::actor::{Actor, ReadGateway};
use uspan_judge::rehearse::{Rehearsal, Stage, outcome_only};
use uspan_model::finding::{self as rules, Finding, any_stops, in_reading_order};
use uspan_model::gateway::{Connection, Gateway, MOST_PAIRS, Method, Route, Through, Tree};

/// What came of a tunnel.
#[derive(Clone, Debug)]
pub struct BuiltTunnel {
    /// Its name.
    pub name: String,
    /// Names of its sites.
    pub ends: [String; 2],
    /// What was agreed.
    pub agreement: Agreement,
    /// The gateways, as read back from what was written.
    pub gateways: [Gateway; 2],
    /// Networks of each site that no pair of it has, by name.
    pub unreached: [Vec<(String, IpNet)>; 2],
    /// Pairs of networks of its sites that it does not carry.
    pub uncarried: Vec<UncarriedPair>,
}

impl BuiltTunnel {
    /// What becomes of what it does not carry, at an end, in words.
    pub fn fate_of_uncarried(&self, end: usize) -> &'static str {
        if self.gateways[end].filter.is_none() {
            return "its owner's affair";
        }
        let dropped = self.uncarried.iter().filter(|pair| pair.dropped[end]).count();
        match dropped {
            0 => "left to other routes",
            all if all == self.uncarried.len() => "dropped",
            _ => "dropped, but for what another tunnel carries",
        }
    }
}

/// What came of a description.
#[derive(Clone, Debug, Default)]
pub struct Build {
    /// A tree of files for each site, by name. Empty if a finding stops the work.
    pub trees: BTreeMap<String, Tree>,
    /// The tunnels, in the order of the description.
    pub tunnels: Vec<BuiltTunnel>,
    /// Everything that was found.
    pub findings: Vec<Finding>,
}

/// Builds all tunnels of a description. All or none: with an error no tree is returned.
pub fn build(description: &Description, supplied: &Supplied) -> Build {
    build_some(description, supplied, |_| true)
}

/// Checks a whole description, and builds some of its tunnels.
pub fn build_some(description: &Description, supplied: &Supplied, which: impl Fn(&Tunnel) -> bool) -> Build {
    let builder = Builder::new(description, supplied);
    let mut build = Build { findings: builder.check(), ..Build::default() };
    let sound = !any_stops(&build.findings);
    for tunnel in description.tunnels.iter().filter(|tunnel| which(tunnel)) {
        // What can be said of one is said, whatever stops the others.
        match builder.tunnel(tunnel, sound && !any_stops(&build.findings)) {
            Ok(made) => {
                build.findings.extend(made.findings);
                let Some((built, trees)) = made.built else { continue };
                for (name, tree) in built.ends.iter().zip(trees) {
                    build.trees.entry(name.clone()).or_default().extend(tree);
                }
                build.tunnels.push(built);
            }
            Err(findings) => build.findings.extend(findings),
        }
    }
    in_reading_order(&mut build.findings);
    if any_stops(&build.findings) {
        build.trees.clear();
    }
    build
}

/// What came of one tunnel.
#[derive(Clone, Debug)]
pub struct Made {
    /// The tunnel, with the files that it gives to each of its ends; nothing where it was only to be agreed on.
    pub built: Option<(BuiltTunnel, [Tree; 2])>,
    /// What was found that does not stop it.
    pub findings: Vec<Finding>,
}

/// Builds tunnels one by one, in any order and several at a time.
#[derive(Debug)]
pub struct Builder<'a> {
    description: &'a Description,
    supplied: &'a Supplied,
}

impl<'a> Builder<'a> {
    /// For a description, and what was supplied with it.
    pub fn new(description: &'a Description, supplied: &'a Supplied) -> Self {
        Builder { description, supplied }
    }

    /// What would go wrong, before anything is decided. With an error no tunnel is to be built.
    pub fn check(&self) -> Vec<Finding> {
        check(self.description, self.supplied)
    }

    /// The whole way for one tunnel; or, if nothing is to be `written`, as far as the agreement.
    ///
    /// # Errors
    /// What stops it.
    pub fn tunnel(&self, tunnel: &Tunnel, written: bool) -> Result<Made, Vec<Finding>> {
        let (agreement, mut findings) = agree(self.description, tunnel);
        let agreement = agreement.filter(|_| written && !any_stops(&findings));
        let Some(agreement) = agreement else {
            return if any_stops(&findings) { Err(findings) } else { Ok(Made { built: None, findings }) };
        };
        match build_tunnel(self.description, tunnel, agreement, self.supplied) {
            Ok((built, trees, warnings)) => {
                findings.extend(warnings);
                Ok(Made { built: Some((built, trees)), findings })
            }
            Err(stopping) => {
                findings.extend(stopping);
                Err(findings)
            }
        }
    }
}

type Built = (BuiltTunnel, [Tree; 2], Vec<Finding>);

fn build_tunnel(description: &Description, tunnel: &Tunnel, agreement: Agreement, supplied: &Supplied) -> Result<Built, Vec<Finding>> {
    let place = description.source.place(tunnel.name.span);
    let ends = description.ends(tunnel);
    let proofs = match tunnel.method.value {
        Method::SharedSecret => supplied.secret_of(description, tunnel).map(Proofs::Secret),
        Method::PublicKey => match ends.map(|site| supplied.key_pair(site)) {
            [Some(first), Some(second)] => Some(Proofs::Keys(Box::new([first, second]))),
            _ => None,
        },
        Method::Certificate => match ends.map(|site| supplied.certified(site)) {
            [Some(first), Some(second)] => Some(Proofs::Certificates(Box::new([first, second]))),
            _ => None,
        },
    };
    // What is missing was found by the check.
    let Some(proofs) = proofs else { return Err(Vec::new()) };
    let sides = take_sides(description, tunnel, &agreement, &proofs);
    let mut trees = Vec::with_capacity(2);
    let mut gateways = Vec::with_capacity(2);
    for (side, site) in sides.iter().zip(ends) {
        let unwritable = |refused: Vec<Unwritable>| -> Vec<Finding> {
            refused.into_iter().map(|refused| refused.finding(&site.name.value).at(place.clone())).collect()
        };
        let tree = write(&site.platform.value, site.packet_filter, side).map_err(unwritable)?;
        let (mut read, findings) = verify(&site.platform.value, site.packet_filter, &tree);
        site.platform.value.family.hand_over(&mut read, &side.gateway);
        if read != side.gateway || !findings.is_empty() {
            // Why, if it is a part that says it.
            let rules = write_rules(site.packet_filter, &side.gateway, &side.remarks);
            if let Err(refused) = site.platform.value.write(&side.gateway, &side.remarks).and(rules) {
                return Err(unwritable(refused));
            }
            let message = format!("what was written for {} reads back differently", site.name.value);
            let mut all = vec![Finding::new(&rules::READ_BACK_DIFFERS, message).at(place)];
            all.extend(findings);
            return Err(all);
        }
        trees.push(tree);
        gateways.push(read);
    }
    let (Ok(trees), Ok(gateways)) = (<[Tree; 2]>::try_from(trees), <[Gateway; 2]>::try_from(gateways)) else {
        unreachable!("two sides give two trees");
    };
    let end = |i: usize| End {
        name: &ends[i].name.value,
        gateway: &gateways[i],
        own: ends[i].local(),
        reached: ends[i].reached(),
        shares_internet: ends[i].shares_internet,
        is_ours: !ends[i].platform.value.is_run_by_others(),
    };
    let mut findings = cross_check(end(0), end(1));
    if !any_stops(&findings) {
        findings.extend(flaw(ends, gateways.each_ref()).map(|flaw| Finding::new(&rules::WOULD_NOT_COME_UP, flaw.reason)));
    }
    let findings: Vec<_> = findings.into_iter().map(|finding| finding.at(place.clone())).collect();
    if any_stops(&findings) {
        return Err(findings);
    }
    let unreached = [0, 1].map(|end| unreached(description, tunnel, end));
    let uncarried = uncarried(description, tunnel);
    let ends = ends.map(|site| site.name.value.clone());
    let built = BuiltTunnel { name: tunnel.name.value.clone(), ends, agreement, gateways, unreached, uncarried };
    Ok((built, trees, findings))
}

/// The networks of an end that neither a tunnel carries nor another one between the same two sites.
fn unreached(description: &Description, tunnel: &Tunnel, end: usize) -> Vec<(String, IpNet)> {
    let place = tunnel.between[end].value;
    let site = &description.sites[place];
    let networks = |one: &Tunnel| {
        let at = usize::from(one.between[0].value != place);
        one.pairs.iter().map(move |pair| [pair.first, pair.second][at]).collect::<Vec<_>>()
    };
    let mut carried = networks(tunnel);
    carried.extend(description.siblings(tunnel).flat_map(networks));
    carried.sort_unstable();
    carried.dedup();
    let whole = |ipv4: bool| {
        carried.iter().map(|at| &site.networks[*at]).any(|one| one.is_everything() && one.prefix.value.addr().is_ipv4() == ipv4)
    };
    let reached = |index: usize, network: &Network| carried.binary_search(&index).is_ok() || whole(network.prefix.value.addr().is_ipv4());
    let own = site.own_networks().enumerate().filter(|(index, network)| !reached(*index, network));
    own.map(|(_, network)| (network.name.value.clone(), network.prefix.value)).collect()
}

/// Why the negotiation of two gateways fails.
#[derive(Clone, Debug)]
pub struct Flaw {
    /// How far it comes; nothing where it comes up, but carries something else than both ends say, or never begins.
    pub stage: Option<Stage>,
    /// Why.
    pub reason: String,
}

/// What the negotiation of a tunnel's two gateways would fail at, rehearsed as they are.
pub fn flaw(ends: [&Site; 2], gateways: [&Gateway; 2]) -> Option<Flaw> {
    let actor = |i: usize| {
        let facts = &ends[i].platform.value;
        let reading =
            ReadGateway { name: &ends[i].name.value, gateway: gateways[i], ends_open: facts.own_end == OwnEnd::ByAddress, tree: None };
        Actor { reading, behaviour: &facts.behaviour, stands: ends[i].stands() }
    };
    let came = outcome_only([actor(0), actor(1)], None);
    if !came.all.is_empty() && came.alone.iter().all(Vec::is_empty) && came.all.iter().all(Rehearsal::works) {
        return None;
    }
    Some(match came.all.iter().flat_map(|rehearsal| &rehearsal.failures).next() {
        Some(failure) => Flaw { stage: Some(failure.stage), reason: failure.reason.clone() },
        None => {
            let reason = "the two ends do not belong together, or carry something else than both say";
            Flaw { stage: None, reason: reason.to_owned() }
        }
    })
}

/// Writes one side: the files of the daemon, the packet filter, the network and the routing protocol.
fn write(platform: &Profile, filter: &dyn PacketFilter, side: &Side) -> Result<Tree, Vec<Unwritable>> {
    // What was written is read back as a whole.
    let mut tree = platform.family.write(platform, &side.gateway, &side.remarks)?;
    if platform.is_run_by_others() {
        gate(&tree)?;
        return Ok(tree);
    }
    tree.extend(filter.write(&side.gateway, &side.remarks)?);
    tree.extend(network::write(&side.gateway, &side.remarks)?);
    tree.extend(routing::write(&side.gateway, &side.remarks)?);
    gate(&tree)?;
    Ok(tree)
}

/// Reads a gateway back from its files, daemon and packet filter together.
pub fn verify(platform: &Profile, packet_filter: &dyn PacketFilter, tree: &Tree) -> (Gateway, Vec<Finding>) {
    read_gateway(platform, &[packet_filter], tree)
}

/// Reads a gateway from its files, with the packet filters whose files stand there.
pub fn read_tree(context: &Context, platform: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
    let filters: Vec<_> = context.filters.iter().copied().filter(|filter| filter.is_of(tree)).collect();
    let (gateway, mut findings) = read_gateway(platform, &filters, tree);
    findings.extend(doubles(platform, &gateway));
    (gateway, findings)
}

/// Child SAs of which two carry the same to the same peer; or to different ones, where the daemon has SAs for one alone of them.
fn doubles(platform: &Profile, gateway: &Gateway) -> Vec<Finding> {
    let (mut known, mut selectors) = (BTreeMap::new(), BTreeMap::new());
    let mut found = Vec::new();
    for connection in &gateway.connections {
        let peer = &connection.remote.value;
        for child in connection.children.iter().filter(|child| child.remote.doubt().is_none()) {
            let what = (&child.local.value, &child.remote.value, child.protocol.value, child.ports.value);
            let same = known.insert((peer, what), &child.name);
            let alone = platform.equal_selectors.value == EqualSelectors::OfOneAlone && peer.address().is_some();
            let alike =
                selectors.insert(what, (peer, &child.name)).filter(|(other, _)| alone && other.address().is_some() && *other != peer);
            let message = match (same, alike) {
                (Some(other), _) => format!("`{other}` and `{}` carry the same to the same peer", child.name),
                (None, Some((_, other))) => {
                    format!("`{other}` and `{}` carry the same to different peers: whichever comes up second has no SA", child.name)
                }
                (None, None) => continue,
            };
            let finding = Finding::new(&rules::DEFINED_TWICE, message);
            let place = child.remote.origin.place().or(child.opening.origin.place()).or(connection.remote.origin.place());
            found.push(match place {
                Some(place) => finding.at(place.clone()),
                None => finding,
            });
        }
    }
    found
}

/// Takes out connections with more pairs of selectors than any has: what they cross would be worked out for each.
fn too_many_pairs(gateway: &mut Gateway) -> Vec<Finding> {
    let count = |connection: &Connection| -> usize {
        connection
            .children
            .iter()
            .map(|child| child.local.value.len().saturating_mul(child.remote.value.len()))
            .fold(0, usize::saturating_add)
    };
    let (fine, many): (Vec<_>, Vec<_>) = std::mem::take(&mut gateway.connections).into_iter().partition(|one| count(one) <= MOST_PAIRS);
    gateway.connections = fine;
    let find = |connection: &Connection| {
        let message = format!("`{}` has {} pairs of selectors: it is not read", connection.name, count(connection));
        let found = Finding::new(&rules::TOO_MUCH, message);
        match connection.remote.origin.place() {
            Some(place) => found.at(place.clone()),
            None => found,
        }
    };
    many.iter().map(find).collect()
}

fn read_gateway(platform: &Profile, packet_filters: &[&dyn PacketFilter], tree: &Tree) -> (Gateway, Vec<Finding>) {
    let (mut gateway, mut findings) = platform.read(tree);
    findings.extend(too_many_pairs(&mut gateway));
    let mut found = FoundRules::default();
    for filter in packet_filters {
        found.extend(filter.read(tree));
    }
    let (interfaces, routes, more) = network::read(tree);
    let (sessions, unsaid) = routing::read(tree);
    findings.extend(found.findings.into_iter().chain(more).chain(unsaid));
    // A file that several others take in is told of once.
    let mut told = HashSet::new();
    findings.retain(|finding| told.insert((finding.rule.code, finding.place.clone(), finding.message.clone())));
    gateway.addresses = network::addresses(tree);
    gateway.sessions = sessions;
    gateway.nat = found.nat;
    gateway.filter = found.filter;
    gateway.ruleset = found.ruleset;
    gateway.segment_limits = found.segment_limits;
    gateway.table = network::routing_table(tree);
    gateway.routes = routes;
    for (listed, ipv4) in [(&gateway.table.ipv4, true), (&gateway.table.ipv6, false)] {
        if let Some(listed) = listed {
            // What is there counts, whatever would be set up at boot; the tables of networks are not in the listing.
            gateway.routes.retain(|route| route.to.addr().is_ipv4() != ipv4 || route.from.is_some());
            let ours = |route: &&Route| match &route.through {
                Through::Interface(name) => interfaces.iter().any(|interface| interface.name == *name),
                Through::BlackHole => true,
            };
            gateway.routes.extend(listed.iter().filter(ours).cloned());
        }
    }
    gateway.interfaces = interfaces;
    (gateway, findings)
}

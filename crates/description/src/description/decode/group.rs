//! Groups: many tunnels with one intention. What names and numbers a pair has follows from the pair alone, so that another
//! site changes nothing of it.

use std::collections::{BTreeMap, HashSet};
use std::ops::Range;
use std::sync::Arc;

use ipnet::IpNet;
use ring::digest::{SHA256, digest};
use toml::de::DeTable;

use super::tunnel::TunnelFields;
use super::{Decoder, SiteIndex, flag, list, number, printable, table, text};
use crate::description::{Address, Beyond, Description, Network, Pair, Site, Tunnel};
use uspan_model::digest::hex;
use uspan_model::finding::{self as rules, suggestion};
use uspan_model::gateway::Method;
use uspan_model::source::{Located, Span};

/// What a policy cannot say, because it is of one tunnel.
const OF_ONE: &[&str] = &["between", "secret", "link", "initiator", "carries", "appears-as", "one-way", "limited-to"];

/// How many names of peers that are not there are compared with those that are.
const HINTED: usize = 100;

/// The longest name of a tunnel.
const LONGEST: usize = 32;

/// The name of a pair's tunnel: those of its sites, as far as there is room.
fn pair_name(first: &str, second: &str) -> String {
    let whole = [first, "--", second].concat();
    if whole.len() <= LONGEST {
        return whole;
    }
    let mark = hex(&digest(&SHA256, whole.as_bytes()).as_ref()[..5]);
    format!("{}-{mark}", &whole[..LONGEST - 1 - mark.len()])
}

/// A /31 or /127 out of a pool.
fn pair_link(pool: IpNet, name: &str) -> Option<IpNet> {
    let bits = u128::from_be_bytes(digest(&SHA256, name.as_bytes()).as_ref()[..16].try_into().ok()?);
    let free = pool.max_prefix_len().checked_sub(pool.prefix_len() + 1)?;
    let offset = if free == 0 { 0 } else { (bits & (u128::MAX >> (128 - u32::from(free)))) << 1 };
    match pool {
        IpNet::V4(net) => {
            let at = u32::from(net.addr()) | u32::try_from(offset).ok()?;
            IpNet::new(std::net::Ipv4Addr::from(at).into(), 31).ok()
        }
        IpNet::V6(net) => IpNet::new(std::net::Ipv6Addr::from(u128::from(net.addr()) | offset).into(), 127).ok(),
    }
}

/// An exception.
struct Exception<'t, 'i> {
    span: Span,
    left_out: bool,
    generation: Option<u32>,
    link: Option<Located<IpNet>>,
    policy: Option<&'t DeTable<'i>>,
    used: bool,
}

/// A group while its tunnels are made.
struct Making<'t, 'i> {
    name: &'t Located<String>,
    policy: DeTable<'i>,
    master: Option<Located<String>>,
    generation: u32,
    links: Option<Located<IpNet>>,
    /// For each hub, which of its networks its members reach each other in.
    transit: BTreeMap<usize, Range<usize>>,
    /// Whether the first of each pair is a hub.
    led: bool,
    initiator: Option<&'t str>,
    key: Arc<str>,
}

impl Decoder<'_> {
    /// Adds the tunnels of a group.
    pub(super) fn group(&mut self, name: &Located<String>, fields: &DeTable<'_>, index: &SiteIndex, description: &mut Description) {
        let Description { sites, tunnels, .. } = description;
        let before = self.findings.len();
        let shape = fields.get("shape").and_then(text).map_or("star", |word| word.value);
        let star = shape == "star";
        let members = self.members(fields, "members", index, sites);
        let hubs = self.members(fields, "hubs", index, sites);
        self.hubs(name, fields, star, &hubs);
        let listed = if shape == "listed" { self.listed(&members, index, sites) } else { Vec::new() };
        let empty = DeTable::new();
        let policy = fields.get("policy").and_then(table).unwrap_or(&empty);
        self.of_one(policy);
        let signed = policy.get("authentication").and_then(text).is_some_and(|word| word.value != "shared-secret");
        match (signed, fields.get("master")) {
            (false, None) => {
                let message = format!("group `{}` lacks `master`", printable(&name.value));
                self.say(&rules::MISSING_KEY, name.span, message).remedy =
                    format!("Add `master = \"secrets/{}.master\"`; `uspan secret` makes such a file.", printable(&name.value));
            }
            (true, Some(node)) => drop(self.say(&rules::SECRET_UNUSED, node.span(), "a master secret, where keys are used")),
            _ => {}
        }
        let mut exceptions = self.exceptions(fields, index);
        let transit = self.transit(name, fields, star, policy, &hubs, sites);
        let sites = &*sites;
        let making = Making {
            name,
            policy: policy.clone(),
            master: fields.get("master").and_then(text).map(|file| file.map(str::to_owned)),
            generation: self.generation(fields).unwrap_or(1),
            transit,
            links: fields.get("links").and_then(text).and_then(|found| self.prefix(found)),
            led: shape != "mesh",
            initiator: fields.get("initiator").and_then(text).map(|word| word.value),
            key: format!("group.{}.policy", name.value).into(),
        };
        if self.findings.len() > before {
            return;
        }
        tunnels.reserve_exact(match shape {
            "listed" => listed.len(),
            "star" => hubs.len() * members.len(),
            _ => members.len() * members.len().saturating_sub(1) / 2,
        });
        // What all have in common is understood once.
        let mut pattern: Option<Tunnel> = None;
        let mut make = |decoder: &mut Self, first: &Located<usize>, second: &Located<usize>, preference: u8| -> bool {
            let key = ordered(first.value, second.value);
            let exception = exceptions.get_mut(&key);
            let exception = exception.map(|exception| {
                exception.used = true;
                &*exception
            });
            if exception.is_some_and(|exception| exception.left_out) {
                return true;
            }
            let tunnel = decoder.member_tunnel(&making, [first, second], exception, &mut pattern, sites);
            let made = tunnel.is_some();
            tunnels.extend(tunnel.map(|tunnel| Tunnel { preference, ..tunnel }));
            made
        };
        // A policy that cannot be understood cannot be for any of them.
        let whole = match shape {
            "listed" => listed.iter().all(|(peer, member)| make(self, peer, member, 0)),
            "star" => hubs.iter().enumerate().all(|(number, hub)| {
                let spokes = members.iter().filter(|member| !hubs.iter().any(|hub| hub.value == member.value));
                spokes.into_iter().all(|member| make(self, hub, member, u8::try_from(number).unwrap_or(u8::MAX)))
            }),
            _ => {
                let mut sorted: Vec<_> = members.iter().collect();
                sorted.sort_by_key(|member| &sites[member.value].name.value);
                sorted.iter().enumerate().all(|(number, first)| sorted[number + 1..].iter().all(|second| make(self, first, second, 0)))
            }
        };
        if whole {
            for exception in exceptions.values().filter(|exception| !exception.used) {
                self.say(&rules::NOT_A_PAIR_OF_GROUP, exception.span, "these two are not joined by this group");
            }
        }
    }

    /// The sites that a list names; an inventory stands for all of its own. Each is there once.
    fn members(&mut self, fields: &DeTable<'_>, key: &str, index: &SiteIndex, sites: &[Site]) -> Vec<Located<usize>> {
        let mut found: Vec<Located<usize>> = Vec::new();
        let mut known = HashSet::new();
        for name in fields.get(key).map(list).unwrap_or_default().iter().filter_map(text) {
            let (found_sites, many) = match (index.known.get(name.value), index.inventories.get(name.value)) {
                (Some(site), _) => (*site..*site + 1, false),
                (None, Some(sites)) => (sites.clone(), true),
                (None, None) if index.is_named(name.value) => continue,
                (None, None) => {
                    let hint = suggestion(name.value, index.names());
                    let message = format!("there is no site and no inventory `{}`", printable(name.value));
                    self.say(&rules::UNKNOWN_SITE, name.span, message).remedy = format!("Correct the name: {hint}");
                    continue;
                }
            };
            // Findings about one of many stand where its site does.
            let span = |site: usize| if many { sites[site].name.span } else { name.span };
            found.extend(found_sites.filter(|site| known.insert(*site)).map(|site| Located::new(site, span(site))));
        }
        found
    }

    fn hubs(&mut self, name: &Located<String>, fields: &DeTable<'_>, star: bool, hubs: &[Located<usize>]) {
        let span = fields.get("hubs").map_or(name.span, |node| node.span().into());
        let message = match (star, hubs.len()) {
            (true, 0) if fields.get("hubs").is_none() => "a star without `hubs`".to_owned(),
            (true, 0..=2) => return,
            (true, count) => format!("a star with {count} hubs"),
            (false, _) if fields.get("hubs").is_none() => return,
            (false, _) => "hubs, and no star".to_owned(),
        };
        self.say(&rules::HUBS_UNFIT, span, message);
    }

    /// What the members of a star reach through its hubs becomes a network of each hub, behind its own.
    fn transit(
        &mut self,
        name: &Located<String>,
        fields: &DeTable<'_>,
        star: bool,
        policy: &DeTable<'_>,
        hubs: &[Located<usize>],
        sites: &mut [Site],
    ) -> BTreeMap<usize, Range<usize>> {
        let Some(node) = fields.get("transit") else { return BTreeMap::new() };
        let unfit = if !star {
            Some("`transit`, and no star: there is no hub to go through")
        } else if policy.contains_key("carries") {
            Some("`transit` beside `carries = \"gateways\"`: nothing stands behind the members")
        } else if policy.get("routing").and_then(text).is_some_and(|word| word.value == "bgp") {
            Some("`transit` beside `routing = \"bgp\"`: the hubs announce what stands behind themselves alone")
        } else {
            None
        };
        if let Some(message) = unfit {
            self.say(&rules::TRANSIT_UNFIT, node.span(), message);
            return BTreeMap::new();
        }
        let group: Arc<str> = name.value.as_str().into();
        let prefixes: Vec<_> = list(node).iter().filter_map(text).filter_map(|found| self.prefix(found)).collect();
        let network = |(number, prefix): (usize, &Located<IpNet>)| {
            let name = if prefixes.len() > 1 { format!("transit{}", number + 1) } else { "transit".to_owned() };
            Network { name: Located::new(name, prefix.span), prefix: prefix.clone(), beyond: Some(Beyond::Group(group.clone())) }
        };
        let range = |hub: &Located<usize>| {
            let networks = &mut sites[hub.value].networks;
            let first = networks.len();
            networks.extend(prefixes.iter().enumerate().map(network));
            (hub.value, first..networks.len())
        };
        hubs.iter().map(range).collect()
    }

    /// Each member with those that its inventory names; each pair is there once.
    fn listed(&mut self, members: &[Located<usize>], index: &SiteIndex, sites: &[Site]) -> Vec<(Located<usize>, Located<usize>)> {
        let (mut pairs, mut known, mut unknown) = (Vec::new(), HashSet::new(), 0);
        for member in members {
            let name = &sites[member.value].name;
            for peer in self.peers.get(&name.value).cloned().unwrap_or_default() {
                match index.known.get(&peer.value) {
                    Some(site) if *site == member.value => {
                        self.say(&rules::SAME_END, peer.span, format!("`{}` is its own peer", printable(&peer.value)));
                    }
                    Some(site) => {
                        if known.insert(ordered(*site, member.value)) {
                            pairs.push((Located::new(*site, peer.span), Located::new(member.value, name.span)));
                        }
                    }
                    None if index.is_named(&peer.value) => {}
                    None => {
                        // In very many rows that are wrong alike each hint would cost a look at every site.
                        unknown += 1;
                        let hint = if unknown > HINTED { String::new() } else { suggestion(&peer.value, index.names()) };
                        let message = format!("there is no site `{}`", printable(&peer.value));
                        self.say(&rules::UNKNOWN_SITE, peer.span, message).remedy = format!("Correct the name: {hint}");
                    }
                }
            }
        }
        pairs
    }

    /// What only a single tunnel can say.
    fn of_one(&mut self, policy: &DeTable<'_>) {
        for key in OF_ONE {
            if let Some(node) = policy.get(*key).filter(|node| *key != "carries" || text(node).is_none()) {
                self.say(&rules::POLICY_OF_ONE, node.span(), format!("`{key}` is different for each pair"));
            }
        }
        if let Some(node) = policy.get("services").filter(|node| table(node).is_some()) {
            self.say(&rules::POLICY_OF_ONE, node.span(), "`services` by site is different for each pair; one list is for all");
        }
    }

    fn generation(&mut self, fields: &DeTable<'_>) -> Option<u32> {
        let node = fields.get("generation")?;
        let found = number(node).and_then(|number| u32::try_from(number).ok()).filter(|number| *number > 0);
        if found.is_none() {
            self.say(&rules::WRONG_TYPE, node.span(), "`generation` is not a number from 1 on").remedy =
                "Count on by one for new secrets.".to_owned();
        }
        found
    }

    fn exceptions<'t, 'i>(&mut self, fields: &'t DeTable<'i>, index: &SiteIndex) -> BTreeMap<[usize; 2], Exception<'t, 'i>> {
        let mut all = BTreeMap::new();
        for node in fields.get("except").map(list).unwrap_or_default() {
            let Some(entry) = table(node) else { continue };
            let Some(pair) = entry.get("pair") else { continue };
            let Some([first, second]) = self.between(pair, index) else { continue };
            let policy = entry.get("policy").and_then(table);
            if let Some(policy) = policy {
                self.of_one(policy);
                let narrowing = if fields.contains_key("transit") { &["path-mtu", "carrier"][..] } else { &[] };
                for key in narrowing {
                    if let Some(node) = policy.get(*key) {
                        let message = format!("`{key}` of one pair, beside `transit`: packets go on into the tunnels of other pairs");
                        self.say(&rules::TRANSIT_UNFIT, node.span(), message);
                    }
                }
            }
            let exception = Exception {
                span: pair.span().into(),
                left_out: entry.get("left-out").and_then(flag).unwrap_or(false),
                generation: self.generation(entry),
                link: entry.get("link").and_then(text).and_then(|found| self.prefix(found)),
                policy,
                used: false,
            };
            if let Some(other) = all.insert(ordered(first.value, second.value), exception) {
                let place = self.source.place(other.span);
                let finding = self.say(&rules::NOT_A_PAIR_OF_GROUP, pair.span(), "there is an exception for these two already");
                finding.related.push((place, "here".to_owned()));
            }
        }
        all
    }

    fn member_tunnel(
        &mut self,
        making: &Making<'_, '_>,
        between: [&Located<usize>; 2],
        exception: Option<&Exception<'_, '_>>,
        pattern: &mut Option<Tunnel>,
        sites: &[Site],
    ) -> Option<Tunnel> {
        let ends = between.map(|end| &sites[end.value]);
        let span = between[1].span;
        let name = Located::new(pair_name(&ends[0].name.value, &ends[1].name.value), span);
        let own = exception.and_then(|exception| exception.policy);
        let mut tunnel = match (own, pattern.as_ref()) {
            (None, Some(pattern)) => pattern.clone(),
            (own, _) => {
                let mut policy = making.policy.clone();
                policy.extend(own.into_iter().flatten().map(|(key, node)| (key.clone(), node.clone())));
                let told = TunnelFields { name: Located::new(name.value.clone(), making.name.span), key: making.key.clone(), alone: false };
                let told = self.told(told, &policy, between.map(Clone::clone), ends)?;
                if own.is_none() {
                    *pattern = Some(told.clone());
                }
                told
            }
        };
        tunnel.between = between.map(Clone::clone);
        if tunnel.hosts.is_none() {
            tunnel.pairs = self.all_pairs(ends, span)?;
            let beyond = making.transit.get(&between[0].value).cloned().unwrap_or_default();
            for first in beyond {
                let ipv4 = ends[0].networks[first].prefix.value.addr().is_ipv4();
                let own = ends[1].own_networks().enumerate().filter(|(_, own)| own.prefix.value.addr().is_ipv4() == ipv4);
                tunnel.pairs.extend(own.map(|(second, _)| Pair { first, second, span }));
            }
        }
        tunnel.carries = span;
        tunnel.initiator = opener(making, ends);
        tunnel.link = match exception.and_then(|exception| exception.link.clone()) {
            Some(link) => Some(link),
            None => making.links.as_ref().and_then(|pool| Some(Located::new(pair_link(pool.value, &name.value)?, pool.span))),
        };
        if tunnel.method.value == Method::SharedSecret {
            tunnel.secret_file.clone_from(&making.master);
            tunnel.generation = Some(exception.and_then(|exception| exception.generation).unwrap_or(making.generation));
        }
        tunnel.name = name;
        Some(tunnel)
    }
}

fn ordered(one: usize, other: usize) -> [usize; 2] {
    [one.min(other), one.max(other)]
}

/// The end that opens: one that nobody else can find, or who the group says.
fn opener(making: &Making<'_, '_>, ends: [&Site; 2]) -> Option<usize> {
    let hidden = ends.map(|site| site.address.value == Address::Dynamic || site.own_address.is_some());
    match (hidden, making.initiator) {
        ([true, false], _) => Some(0),
        ([false, true], _) => Some(1),
        (_, Some("hubs")) => Some(0),
        (_, Some("either")) => None,
        _ => Some(usize::from(making.led)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::description::is_name;

    #[test]
    fn names_of_pairs_are_names_and_differ() {
        assert_eq!(pair_name("packhouse", "coldstore"), "packhouse--coldstore");
        let long = ["a", "b"].map(|last| pair_name("a-rather-long-name-of-a-site", &format!("another-long-name-{last}")));
        assert!(long.iter().all(|name| is_name(name) && name.len() == LONGEST), "{long:?}");
        assert_ne!(long[0], long[1]);
    }

    #[test]
    fn links_come_out_of_their_pool() {
        for (pool, length) in [("10.255.0.0/16", 31), ("10.255.0.4/31", 31), ("2001:db8:ff::/64", 127)] {
            let pool: IpNet = pool.parse().expect("a network");
            let link = pair_link(pool, "packhouse--coldstore").expect("a link");
            assert!(pool.contains(&link), "{link}");
            assert_eq!((link.prefix_len(), link.trunc()), (length, link));
        }
        let pool: IpNet = "10.255.0.0/16".parse().expect("a network");
        assert_ne!(pair_link(pool, "a--b"), pair_link(pool, "a--c"));
        assert_eq!(pair_link("10.255.0.1/32".parse().expect("a network"), "a--b"), None);
    }
}

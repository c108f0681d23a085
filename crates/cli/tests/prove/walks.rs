//! What `walk` says of flows between two ends is what becomes of them, also where something was spoilt.

use crate::known;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::Path;

use uspan_core::{
    Actor, Description, Flow, KnownAddresses, OwnEnd, Ports, ReadGateway, Source, Traffic, Transport, Tree, TreeFile, Walker, build, walk,
};
use uspan_lab::{Depth, Event, Flowed, cast};

use crate::suite::{LSW, OI, Pair, SS, orchard, supplied};

/// A pair, and what is done to which of its files.
pub struct Case {
    pub name: &'static str,
    pub pair: Pair,
    pub edits: &'static [(&'static str, &'static str, &'static str)],
}

const TWO: [&str; 2] = ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\""];

#[rustfmt::skip]
pub fn cases() -> Vec<Case> {
    let pair = |platforms| Pair { platforms, networks: TWO, ..orchard() };
    let plain = |name, edits| Case { name, pair: pair([SS, LSW]), edits };
    let sites = |platforms, sites: [&'static str; 2], tunnel: &str| Pair { sites, tunnel: tunnel.to_owned(), ..pair(platforms) };
    let shared = ["shares-internet = true", "shares-internet = true"];
    vec![
        plain("nothing", &[]),
        plain("an inbound rule", &[("coldstore", "ip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 meta ipsec exists counter accept\n", "\n")]),
        plain("an outbound rule", &[("coldstore", "ip saddr 10.73.16.0/20 ip daddr 10.41.8.0/24 rt ipsec exists counter accept\n", "\n")]),
        plain("the exemption", &[("packhouse", "ip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 counter snat ip prefix to 10.41.0.0/22\n", "\n")]),
        plain("a selector", &[("coldstore", "rightsubnet=10.41.8.0/24", "rightsubnet=10.41.9.0/24")]),
        plain("the secret", &[("coldstore", "PSK 0x4b", "PSK 0x4c")]),
        Case { name: "services", pair: sites([LSW, SS], shared, "services = [\"https\", \"ping\"]"), edits: &[] },
        Case { name: "one way", pair: sites([SS, SS], shared, "one-way = \"packhouse\"\nservices = [\"https\"]"), edits: &[] },
        Case { name: "a service at one end", pair: sites([SS, LSW], shared, "services = [\"https\", \"ssh\"]"), edits: &[("coldstore", "tcp dport 22 ", "tcp dport 23 ")] },
        Case { name: "routes", pair: sites([SS, LSW], ["style = \"route-based\"", "style = \"route-based\"\nshares-internet = true"], ""), edits: &[] },
        Case { name: "a route", pair: sites([SS, LSW], ["style = \"route-based\"", ""], ""), edits: &[("packhouse", "\tup ip route add 10.73.16.0/20 dev us-harvest metric 10\n", "")] },
        Case { name: "a joined filter", pair: sites([SS, LSW], ["", "filter = \"joined\""], ""), edits: &[] },
        Case { name: "iptables", pair: sites([SS, LSW], ["style = \"route-based\"\npacket-filter = \"iptables\"", "style = \"route-based\"\npacket-filter = \"iptables\""], "services = [\"https\"]"), edits: &[] },
        Case { name: "OpenIKED", pair: Pair { tunnel: "esp-lifetime = \"10m\"\nike-lifetime = \"30m\"".to_owned(), ..pair([OI, SS]) },
            edits: &[("coldstore", "ip saddr 10.41.8.0/24 ip daddr 10.73.16.0/20 meta ipsec exists counter accept\n", "\n")] },
    ]
}

/// What the lab told of a case.
struct Came {
    inside: [Vec<IpAddr>; 2],
    flows: Vec<Flowed>,
    listings: [BTreeMap<String, String>; 2],
}

/// The daemon's files of a gateway, and what it listed in place of the rest.
fn as_listed(tree: &Tree, listings: &BTreeMap<String, String>) -> Tree {
    let mut listed = tree.clone();
    listed.files.retain(|path, _| !path.starts_with("etc/nftables") && !path.starts_with("etc/iptables"));
    for (path, text) in listings.iter().filter(|(path, _)| path.starts_with("listing/")) {
        listed.add(path.clone(), TreeFile::public(text.clone()));
    }
    listed
}

/// What people are told to see after installing, and what is not seen where nothing was spoilt.
fn unseen(case: &Case, listings: &[BTreeMap<String, String>; 2]) -> Vec<String> {
    let mut unseen = Vec::new();
    if !case.edits.is_empty() {
        return unseen;
    }
    for (end, listing) in listings.iter().enumerate() {
        let looks = known::platform(case.pair.platforms[end]).looks.clone();
        for (_, command, good) in looks.iter().filter(|(_, command, _)| !command.starts_with("journalctl")) {
            let command = command.replace("{}", "harvest");
            let said = listing.get(&command).map(String::as_str).unwrap_or_default();
            // What stands between backticks is what is seen.
            let missing: Vec<_> = good.split('`').skip(1).step_by(2).filter(|word| !said.contains(word)).collect();
            if !missing.is_empty() {
                unseen.push(format!("{}: `{command}` does not say {missing:?}: {said}", case.name));
            }
        }
    }
    unseen
}

// Long: one walk after the other, in the order of the daemons.
/// The flows of each case, as they went in the lab, and those of which `walk` says otherwise.
pub fn tried(cases: &[Case]) -> (usize, Vec<String>) {
    let supplied = supplied();
    let mut jobs = Vec::new();
    let mut pairs = Vec::new();
    for (number, case) in cases.iter().enumerate() {
        let (description, findings) = Description::parse(&Source::new("pair.span.toml", case.pair.text().as_str()), known::context());
        let mut built = build(&description, &supplied);
        let stops = findings.iter().chain(&built.findings).find(|finding| finding.stops());
        assert!(stops.is_none(), "{}: {stops:?}", case.name);
        for (site, old, new) in case.edits {
            let mut touched = 0;
            for file in built.trees.get_mut(*site).expect("a site").files.values_mut().filter(|file| file.text.contains(old)) {
                file.text = file.text.replace(old, new);
                touched += 1;
            }
            assert!(touched > 0, "{}: no `{old}` at {site}", case.name);
        }
        let mut job = cast(&description, &built, &built.trees.clone(), &BTreeMap::new(), &[], |_| true);
        (job.number, job.depth) = (number, Depth::Flows);
        let trees = ["packhouse", "coldstore"].map(|site| built.trees[site].clone());
        let gateways = [0, 1].map(|end| known::read_as(known::platform(case.pair.platforms[end]), &trees[end]).0);
        pairs.push((trees, gateways, job.sites.clone()));
        jobs.push(job);
    }
    let mut came: BTreeMap<usize, Came> = BTreeMap::new();
    let keep = std::env::var_os("USPAN_KEEP").map(|path| Path::new(&path).join("walks"));
    crate::perform(jobs, keep, &mut |event| match event {
        Event::Flowed { job, inside, flows, listings, .. } => {
            came.insert(job, Came { inside: inside.map(|address| address.into_iter().collect()), flows, listings });
        }
        Event::Broken { job, how } => panic!("{job}: {how}"),
        _ => {}
    });
    let (mut all, mut wrong) = (0, Vec::new());
    for (number, case) in cases.iter().enumerate() {
        let (trees, gateways, sites) = &pairs[number];
        let Some(Came { inside, flows, listings }) = came.get(&number) else { continue };
        wrong.extend(unseen(case, listings));
        let word = |end: usize| known::platform(case.pair.platforms[end]);
        let stands = |end: usize| KnownAddresses { own: Some(sites[end].own), reached: Some(sites[end].address) };
        let listed = [0, 1].map(|end| as_listed(&trees[end], &listings[end]));
        let read = [0, 1].map(|end| known::read_as(word(end), &listed[end]).0);
        let actor = |end: usize, gateway, tree| {
            let reading = ReadGateway {
                name: sites[end].name.as_str(),
                gateway,
                ends_open: word(end).own_end == OwnEnd::ByAddress,
                tree: Some(tree),
            };
            Actor { reading, behaviour: &word(end).behaviour, stands: stands(end) }
        };
        // By the files, and what the job says beside them; and by what the gateways listed, and nothing else.
        let by_files = [0, 1].map(|end| Walker {
            actor: actor(end, &gateways[end], &trees[end]),
            inside: &inside[end],
            shares_internet: Some(sites[end].shares_internet),
            networks: &[],
        });
        let by_listings =
            [0, 1].map(|end| Walker { actor: actor(end, &read[end], &listed[end]), inside: &[], shares_internet: None, networks: &[] });
        for flowed in flows {
            let port = |port| Traffic::To(Transport::Tcp, Ports { first: port, last: port });
            let traffic = flowed.port.map_or(Traffic::Ping, port);
            let flow = Flow { from: flowed.from, to: flowed.to, traffic };
            for (walkers, by) in [(&by_files, "files"), (&by_listings, "listings")] {
                all += 1;
                let walked = walk(*walkers, &flow);
                if walked.as_ref().is_some_and(uspan_core::Walk::works) != flowed.worked {
                    let hops =
                        walked.iter().flat_map(|walked| std::iter::once(&walked.there).chain(&walked.back)).flat_map(|leg| &leg.hops);
                    let last = hops.last().map(|hop| format!("{}: {}", hop.aspect.word(), hop.says));
                    wrong.push(format!("{}, by {by}: {flowed:?}; walk ends at {last:?}", case.name));
                }
            }
        }
    }
    (all, wrong)
}

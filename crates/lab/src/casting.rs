//! From a built description to a job: who stands where, and what is expected.

use std::collections::BTreeMap;

use uspan_core::{Build, BuiltTunnel, Description, FilterForm, Opening, Tree};

use crate::job::{Job, Opens, Pair, Site, SiteFile, Tunnel};

/// Casts the tunnels of a description that `wanted` picks, with the files of these trees.
///
/// `scripts` are the user's own set-up of gateways, by site.
pub fn cast(
    description: &Description,
    built: &Build,
    trees: &BTreeMap<String, Tree>,
    scripts: &BTreeMap<String, String>,
    wanted: impl Fn(&str) -> bool,
) -> Job {
    let tunnels: Vec<_> = built.tunnels.iter().filter(|tunnel| wanted(&tunnel.name)).collect();
    let on_stage = |name: &str| tunnels.iter().any(|tunnel| tunnel.ends.iter().any(|end| end == name));
    let sites: Vec<Site> = description
        .sites
        .iter()
        .filter(|site| on_stage(&site.name.value))
        .map(|site| {
            let here = tunnels.iter().filter(|tunnel| tunnel.ends.contains(&site.name.value));
            cast_site(site, trees, scripts, &here.map(|tunnel| tunnel.name.as_str()).collect::<Vec<_>>())
        })
        .collect();
    let tunnels = tunnels.into_iter().map(|tunnel| cast_tunnel(description, tunnel, &sites)).collect();
    Job { number: 0, sites, tunnels }
}

fn cast_site(site: &uspan_core::Site, trees: &BTreeMap<String, Tree>, scripts: &BTreeMap<String, String>, stems: &[&str]) -> Site {
    let name = site.name.value.clone();
    let files = trees.get(&name).into_iter().flat_map(|tree| &tree.files);
    Site {
        platform: site.platform.value.facts().word.to_owned(),
        address: site.address.value,
        outside: site.outside.value.clone(),
        inside: site.inside.iter().map(|interface| interface.value.clone()).collect(),
        networks: site.networks.iter().map(|network| (network.name.value.clone(), network.prefix.value)).collect(),
        shares_internet: site.shares_internet,
        packet_filter: site.packet_filter.word().to_owned(),
        rules: trees
            .get(&name)
            .map(|tree| stems.iter().flat_map(|stem| site.packet_filter.take_up(stem, tree)).collect())
            .unwrap_or_default(),
        joined: site.filter == FilterForm::Joined,
        files: files.map(|(path, file)| SiteFile { path: path.clone(), private: file.private, text: file.text.clone() }).collect(),
        script: scripts.get(&name).cloned(),
        name,
    }
}

fn cast_tunnel(description: &Description, built: &BuiltTunnel, sites: &[Site]) -> Tunnel {
    let place = |end: usize| sites.iter().position(|site| site.name == built.ends[end]).unwrap_or(0);
    let told = description.tunnels.iter().find(|tunnel| tunnel.name.value == built.name);
    let by_hand = |end: usize| told.is_some_and(|t| t.opens.value == Opening::Wait && t.opened_by.is_none_or(|starter| starter == end));
    let opens = [0, 1].map(|end| match built.agreement.opening[end] {
        Opening::AtOnce => Opens::AtOnce,
        Opening::OnTraffic => Opens::OnTraffic,
        Opening::Wait if by_hand(end) => Opens::ByHand,
        Opening::Wait => Opens::Never,
    });
    let children: Vec<_> = built.gateways[0].connections.iter().flat_map(|connection| &connection.children).collect();
    // One Child SA for each pair, in their order, or one for all of them.
    let child = |i: usize| children.get(i).or(children.first()).map(|child| child.name.clone()).unwrap_or_default();
    let pairs = told.into_iter().flat_map(|tunnel| &tunnel.pairs).enumerate();
    Tunnel {
        name: built.name.clone(),
        ends: [place(0), place(1)],
        pairs: pairs.map(|(i, pair)| Pair { networks: [pair.first, pair.second], child: child(i) }).collect(),
        opens,
        liveness: built.agreement.liveness.map(|interval| interval.as_secs()),
        lifetimes: [built.agreement.ike_lifetime.hard.as_secs(), built.agreement.esp_lifetime.hard.as_secs()],
        pfs: built.agreement.esp.first().and_then(|proposal| proposal.groups.first()).map(|group| group.0),
    }
}

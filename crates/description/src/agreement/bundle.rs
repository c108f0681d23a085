//! How several pairs of networks travel: a Child SA for each pair, or all in one.

use std::collections::BTreeSet;

use crate::description::{Description, Tunnel};
use uspan_dialects::profile::SeveralPairs;
use uspan_model::gateway::IkeVersion;

/// How the pairs of a tunnel travel.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Bundle {
    /// A Child SA for each pair.
    PerPair,
    /// All pairs in one Child SA, as lists of selectors (RFC 7296 section 2.9) or inside GRE; or there are none.
    One,
    /// The two ends cannot do it in the same way, and why.
    Impossible(String),
}

/// Decides how the pairs of a tunnel travel.
pub fn bundle(description: &Description, tunnel: &Tunnel) -> Bundle {
    // Routes decide what goes into GRE, and one Child SA carries that, as it does what the gateways themselves send.
    if tunnel.is_between_gateways() {
        return Bundle::One;
    }
    let ends = description.ends(tunnel);
    let can = ends.map(|site| &site.platform.value.selectors);
    let asked = tunnel.esp_sas.as_ref().map(|asked| asked.value).filter(|_| tunnel.pairs.len() > 1);
    // Quick mode has one pair of selectors (RFC 2409 section 5.5).
    if tunnel.version.value == IkeVersion::V1 {
        return match asked {
            Some(SeveralPairs::InOneSa) => Bundle::Impossible("IKEv1 has one pair of networks in each ESP SA".to_owned()),
            _ => Bundle::PerPair,
        };
    }
    if let Some((asked, end)) = asked.and_then(|asked| Some((asked, [0, 1].into_iter().find(|end| !can[*end].contains(&asked))?))) {
        let way = match asked {
            SeveralPairs::AnSaEach => "one ESP SA for all pairs, and not one for each",
            SeveralPairs::InOneSa => "one pair of networks in each ESP SA",
        };
        let site = ends[end];
        return Bundle::Impossible(format!("{} ({}) has {way}", site.name.value, site.platform.value.title));
    }
    if asked == Some(SeveralPairs::InOneSa) {
        return match is_each_with_each(tunnel) {
            true => Bundle::One,
            false => Bundle::Impossible(
                "one ESP SA has every network of one side with every network of the other; some pairs are left out".to_owned(),
            ),
        };
    }
    let single = |end: usize| {
        let facts = &ends[end].platform.value;
        format!("{} ({}) has one Child SA for each peer", ends[end].name.value, facts.title)
    };
    let Some(limited) = [0, 1].into_iter().find(|end| !can[*end].contains(&SeveralPairs::AnSaEach)) else { return Bundle::PerPair };
    if tunnel.pairs.len() < 2 {
        return Bundle::One;
    }
    if let Some(other) = [0, 1].into_iter().find(|end| !can[*end].contains(&SeveralPairs::InOneSa)) {
        let site = ends[other];
        return Bundle::Impossible(format!(
            "{}, and {} ({}) one pair of networks in each Child SA: together they carry one pair, not {}",
            single(limited),
            site.name.value,
            site.platform.value.title,
            tunnel.pairs.len()
        ));
    }
    if !is_each_with_each(tunnel) {
        return Bundle::Impossible(format!(
            "{}, whose selectors are every network of one side with every network of the other; some of these pairs are left out",
            single(limited)
        ));
    }
    Bundle::One
}

/// Whether every network of one side is carried with every one of the other that is carried at all.
fn is_each_with_each(tunnel: &Tunnel) -> bool {
    let firsts: BTreeSet<_> = tunnel.pairs.iter().map(|pair| pair.first).collect();
    let seconds: BTreeSet<_> = tunnel.pairs.iter().map(|pair| pair.second).collect();
    firsts.len() * seconds.len() == tunnel.pairs.len()
}

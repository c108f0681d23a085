//! `everything` in the pairs of a tunnel: what is reached through a site, the internet with it.

use super::{Decoder, Node, SiteIndex, list, text};
use crate::description::{Appearance, Beyond, EVERYTHING, Network, Pair, Site};
use toml::de::DeTable;
use uspan_model::finding as rules;
use uspan_model::gateway::Endpoint;
use uspan_model::source::Located;

impl Decoder<'_> {
    /// The networks of a pair of which one is everything, as places in those of the two sites.
    pub(super) fn with_everything(&mut self, names: [&Located<&str>; 2], ends: [&Site; 2]) -> [Option<usize>; 2] {
        let own = match names.map(|name| name.value == EVERYTHING) {
            [true, true] => {
                self.say(&rules::UNKNOWN_NETWORK, names[1].span, "everything at both ends: one of them must be a network").remedy =
                    "Name the network whose packets go to the other site.".to_owned();
                return [None, None];
            }
            [at_first, _] => usize::from(at_first),
        };
        let network = self.network(names[own], ends[own], ends);
        let all = network.and_then(|at| everything_of(ends[1 - own], ends[own].networks[at].prefix.value.addr().is_ipv4()));
        if own == 1 { [all, network] } else { [network, all] }
    }

    /// What else cannot be said of a tunnel whose pairs name everything.
    pub(super) fn beside_everything(
        &mut self,
        fields: &DeTable<'_>,
        ends: [&Site; 2],
        pairs: &[Pair],
        appearances: &[Appearance],
    ) -> Option<()> {
        let all = |pair: &&Pair| pair.hub_of_everything(ends).is_some();
        let mut to_all = pairs.iter().filter(all).peekable();
        to_all.peek()?;
        if let Some(word) = fields.get("routing").and_then(text).filter(|word| word.value == "bgp") {
            let message = "`everything` beside `routing = \"bgp\"`: a default route that is learned takes IKE and ESP, too";
            self.say(&rules::TRANSIT_UNFIT, word.span, message).remedy = "Leave `routing` out.".to_owned();
        }
        let translated = |pair: &Pair| appearances.iter().find(|one| [pair.first, pair.second][one.end] == one.network);
        if let Some(appearance) = to_all.find_map(translated) {
            let name = &ends[appearance.end].networks[appearance.network].name.value;
            let message = format!("`{name}` appears as another, and is carried to everything: whatever it sends would be translated");
            self.say(&rules::APPEARANCE_UNFIT, appearance.prefix.span, message).remedy =
                "Leave `appears-as` out: what goes to the internet is translated there.".to_owned();
        }
        Some(())
    }
}

/// Everything of a family that is reached through a site, if one of its tunnels carries that.
fn everything_of(site: &Site, ipv4: bool) -> Option<usize> {
    let is_it = |network: &Network| network.beyond == Some(Beyond::Everything) && network.prefix.value.addr().is_ipv4() == ipv4;
    site.networks.iter().position(is_it)
}

/// What a tunnel's pairs call everything becomes a network of its site, behind its own, once for each family.
pub(super) fn everything(fields: &DeTable<'_>, index: &SiteIndex, sites: &mut [Site]) {
    let names = |node: &Node<'_>| list(node).iter().filter_map(text).map(|name| name.map(str::to_owned)).collect::<Vec<_>>();
    let ends: Vec<_> = fields.get("between").map(names).unwrap_or_default();
    let [Some(first), Some(second)] = [0, 1].map(|end| ends.get(end).and_then(|name| index.known.get(name.value.as_str()).copied())) else {
        return;
    };
    for pair in fields.get("carries").map(list).unwrap_or_default() {
        let pair = names(pair);
        let [one, other] = pair.as_slice() else { continue };
        let (site, word, name, peer) = match [one, other].map(|name| name.value == EVERYTHING) {
            [true, false] => (first, one, other, second),
            [false, true] => (second, other, one, first),
            _ => continue,
        };
        let Some(ipv4) = sites[peer].network(&name.value).map(|network| network.prefix.value.addr().is_ipv4()) else { continue };
        if everything_of(&sites[site], ipv4).is_none() {
            let prefix = Located::new(Endpoint::Anywhere.range(ipv4), word.span);
            sites[site].networks.push(Network { name: word.clone(), prefix, beyond: Some(Beyond::Everything) });
        }
    }
}

//! The picture that everybody starts from: sites, gateways, networks, the internet, the tunnels.
//!
//! One tunnel is drawn with all that is around it; several as sites and lines. It is the same picture in light, in dark and in
//! print: nothing is told by colour alone.

mod canvas;
mod many;
mod pair;

pub use canvas::{Drawing, Link, Point, Rect, Theme, escaped};

use std::collections::{BTreeMap, BTreeSet};

use crate::build::BuiltTunnel;
use uspan_description::description::{Description, Site};
use uspan_description::sides::UncarriedPair;
use uspan_model::gateway::{Encapsulation, NatTarget, Passing};

/// A site as it is drawn.
#[derive(Clone, Debug)]
struct SiteView {
    name: String,
    platform: String,
    public: String,
    own: Option<String>,
    outside: String,
    inside: Vec<String>,
    networks: Vec<NetworkView>,
}

/// A network as it is drawn.
#[derive(Clone, Debug)]
struct NetworkView {
    name: String,
    prefix: String,
    /// Whether a tunnel carries it.
    reached: bool,
}

/// A tunnel as it is drawn.
#[derive(Clone, Debug)]
struct TunnelView {
    name: String,
    ends: [usize; 2],
    /// The first choice of ciphers: for IKE, and for ESP.
    ciphers: [String; 2],
    version: &'static str,
    in_udp: bool,
    /// What may cross: near and far, seen from the first end.
    pairs: Vec<(String, String)>,
    /// What each gateway does with addresses, and what it lets pass.
    around: [[String; 2]; 2],
    /// What does not cross, and what becomes of it; nothing where all crosses.
    uncarried: Option<String>,
}

impl TunnelView {
    /// What carries its packets.
    fn carrier(&self) -> &'static str {
        if self.in_udp { "ESP in UDP" } else { "ESP" }
    }
}

/// Draws the tunnels of a description; nothing where there are none.
pub fn draw(description: &Description, tunnels: &[BuiltTunnel], theme: Theme) -> Option<Drawing> {
    let used = |index: usize| {
        description.tunnels.iter().any(|tunnel| {
            tunnel.between.iter().any(|end| end.value == index) && tunnels.iter().any(|built| built.name == tunnel.name.value)
        })
    };
    let kept: Vec<usize> = (0..description.sites.len()).filter(|index| used(*index)).collect();
    let unreached = unreached(tunnels);
    let sites: Vec<SiteView> = kept.iter().map(|index| site(&description.sites[*index], &unreached)).collect();
    let views: Vec<TunnelView> = tunnels.iter().filter_map(|built| tunnel(description, built, &kept)).collect();
    match views.as_slice() {
        [] => None,
        [one] if sites.len() == 2 => Some(pair::draw(&sites, one, theme)),
        all => Some(many::draw(&sites, all, theme)),
    }
}

/// The networks of each site that no tunnel of it carries.
fn unreached(tunnels: &[BuiltTunnel]) -> BTreeSet<(&str, &str)> {
    let mut unreached: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for tunnel in tunnels {
        for (site, list) in tunnel.ends.iter().zip(&tunnel.unreached) {
            let names: BTreeSet<_> = list.iter().map(|(name, _)| name.as_str()).collect();
            unreached.entry(site).and_modify(|known| known.retain(|name| names.contains(name))).or_insert(names);
        }
    }
    unreached.into_iter().flat_map(|(site, names)| names.into_iter().map(move |name| (site, name))).collect()
}

fn site(site: &Site, unreached: &BTreeSet<(&str, &str)>) -> SiteView {
    SiteView {
        name: site.title().to_owned(),
        platform: if site.platform.value.is_run_by_others() { "of another make".to_owned() } else { site.platform.value.title.to_string() },
        public: site.address.value.to_string(),
        own: site.own_address.as_ref().map(|own| own.value.to_string()),
        outside: site.outside.value.clone(),
        inside: site.inside.iter().map(|name| name.value.clone()).collect(),
        networks: site
            .own_networks()
            .map(|network| NetworkView {
                name: network.name.value.clone(),
                prefix: network.prefix.value.to_string(),
                reached: !unreached.contains(&(site.name.value.as_str(), network.name.value.as_str())),
            })
            .collect(),
    }
}

/// What a tunnel does not carry, in one line.
fn uncarried(built: &BuiltTunnel) -> Option<String> {
    let told = |pair: &UncarriedPair| format!("{} ⇄ {}", pair.names[0], pair.names[1]);
    let some: Vec<_> = built.uncarried.iter().take(SHOWN).map(told).collect();
    let rest = match built.uncarried.len().checked_sub(SHOWN) {
        None | Some(0) => String::new(),
        Some(more) => format!(", and {more} more"),
    };
    let fates = [0, 1].map(|end| built.fate_of_uncarried(end));
    let fate = match fates {
        [one, other] if one == other => one.to_owned(),
        [one, other] => format!("{one} at {}, {other} at {}", built.ends[0], built.ends[1]),
    };
    (!some.is_empty()).then(|| format!("not carried: {}{rest}; {fate}", some.join(", ")))
}

/// As many pairs that are not carried are named.
const SHOWN: usize = 4;

fn tunnel(description: &Description, built: &BuiltTunnel, kept: &[usize]) -> Option<TunnelView> {
    let tunnel = description.tunnels.iter().find(|tunnel| tunnel.name.value == built.name)?;
    let place = |end: usize| kept.iter().position(|index| *index == tunnel.between[end].value);
    let agreement = &built.agreement;
    let around = |end: usize| {
        let gateway = &built.gateways[end];
        // Of others it is not known.
        if description.sites[tunnel.between[end].value].platform.value.is_run_by_others() {
            return ["NAT: its owner's".to_owned(), "filter: its owner's".to_owned()];
        }
        let renumbered = gateway.nat.iter().any(|rule| matches!(rule.target, NatTarget::SourceNet(_) | NatTarget::DestinationNet(_)));
        let kept = gateway.nat.iter().any(|rule| rule.target == NatTarget::KeepSource);
        let behind_one = gateway.nat.iter().any(|rule| matches!(rule.target, NatTarget::SourceTo(_)));
        let nat = match (renumbered, behind_one, kept) {
            (true, ..) => "NAT: one to one",
            (false, true, _) => "NAT: behind one address",
            (false, false, true) => "NAT: addresses kept",
            (false, false, false) => "NAT: none",
        };
        let filter = match gateway.hosts_may_open() {
            Passing::All => "filter: both ways".to_owned(),
            Passing::Only(list) if list.is_empty() => "filter: answers alone".to_owned(),
            only => format!("filter: {only}"),
        };
        [nat.to_owned(), filter]
    };
    Some(TunnelView {
        name: built.name.clone(),
        ends: [place(0)?, place(1)?],
        ciphers: [
            agreement.ike.first().map(ToString::to_string).unwrap_or_default(),
            agreement.esp.first().map(ToString::to_string).unwrap_or_default(),
        ],
        version: agreement.exchange.version().words(),
        in_udp: agreement.encapsulation.contains(&Encapsulation::Forced),
        pairs: built.gateways[0].crossing().into_iter().map(|(near, far)| (near.to_string(), far.to_string())).collect(),
        around: [around(0), around(1)],
        uncarried: uncarried(built),
    })
}

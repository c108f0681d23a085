//! The picture that everybody starts from: sites, gateways, networks, the internet, the tunnels.
//!
//! One tunnel is drawn with all that is around it; several as sites and lines. It is the same picture in light, in dark and in
//! print: nothing is told by colour alone.

mod canvas;
mod many;
mod pair;

pub use canvas::{Drawing, Link, Point, Rect, Theme, escaped};

use crate::build::BuiltTunnel;
use uspan_description::description::{Description, Site};
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
    networks: Vec<(String, String)>,
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
    let sites: Vec<SiteView> = kept.iter().map(|index| site(&description.sites[*index])).collect();
    let views: Vec<TunnelView> = tunnels.iter().filter_map(|built| tunnel(description, built, &kept)).collect();
    match views.as_slice() {
        [] => None,
        [one] if sites.len() == 2 => Some(pair::draw(&sites, one, theme)),
        all => Some(many::draw(&sites, all, theme)),
    }
}

fn site(site: &Site) -> SiteView {
    SiteView {
        name: site.title().to_owned(),
        platform: if site.platform.value.is_run_by_others() { "of another make".to_owned() } else { site.platform.value.title.to_string() },
        public: site.address.value.to_string(),
        own: site.own_address.as_ref().map(|own| own.value.to_string()),
        outside: site.outside.value.clone(),
        inside: site.inside.iter().map(|name| name.value.clone()).collect(),
        networks: site.own_networks().map(|network| (network.name.value.clone(), network.prefix.value.to_string())).collect(),
    }
}

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
        let nat = match (renumbered, kept) {
            (true, _) => "NAT: one to one",
            (false, true) => "NAT: addresses kept",
            (false, false) => "NAT: none",
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
    })
}

//! Tunnels between the same two sites: they share an IKE SA.

use std::collections::{BTreeMap, HashMap};

use super::{Description, Tunnel};

/// By the name of each tunnel that shares its two sites with others: the places of all of those, in the order of the description.
pub(crate) type SiblingPlaces = BTreeMap<String, Vec<usize>>;

impl Description {
    /// The other tunnels between the same two sites, in the order of the description.
    pub fn siblings<'a>(&'a self, tunnel: &'a Tunnel) -> impl Iterator<Item = &'a Tunnel> + Clone {
        self.between_same_sites(tunnel).filter(|other| other.name.value != tunnel.name.value)
    }

    /// The first tunnel between the two sites of one, which may be that one.
    pub fn first_sibling<'a>(&'a self, tunnel: &'a Tunnel) -> &'a Tunnel {
        self.between_same_sites(tunnel).next().unwrap_or(tunnel)
    }

    /// The tunnels between the two sites of one, that one among them; nothing where it is the only one.
    fn between_same_sites<'a>(&'a self, tunnel: &Tunnel) -> impl Iterator<Item = &'a Tunnel> + Clone + use<'a> {
        let places = self.siblings.get(|| self.shared()).get(&tunnel.name.value);
        places.into_iter().flatten().map(|place| &self.tunnels[*place])
    }

    fn shared(&self) -> SiblingPlaces {
        let mut by_sites: HashMap<[usize; 2], Vec<usize>> = HashMap::with_capacity(self.tunnels.len());
        for (place, tunnel) in self.tunnels.iter().enumerate() {
            by_sites.entry(sites(tunnel)).or_default().push(place);
        }
        let several = by_sites.into_values().filter(|places| places.len() > 1);
        several
            .flat_map(|places| places.clone().into_iter().map(move |place| (place, places.clone())))
            .map(|(place, all)| (self.tunnels[place].name.value.clone(), all))
            .collect()
    }
}

/// The two sites of a tunnel, whichever is its first.
fn sites(tunnel: &Tunnel) -> [usize; 2] {
    let [one, other] = [tunnel.between[0].value, tunnel.between[1].value];
    [one.min(other), one.max(other)]
}

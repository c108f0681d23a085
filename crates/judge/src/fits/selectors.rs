//! What becomes of traffic selectors (RFC 7296 section 2.9, RFC 2409 section 5.5).

use ipnet::IpNet;

use uspan_dialects::profile::Narrowing;
use uspan_model::gateway::Child;

/// Selectors of a Child SA, seen from the end that opens it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Wanted {
    /// The networks of the initiator.
    pub(crate) near: Vec<IpNet>,
    /// Those of the responder.
    pub(crate) far: Vec<IpNet>,
    /// The IP protocol that they are limited to.
    pub(crate) protocol: Option<u8>,
    /// The ports that they are limited to, of the initiator and of the responder.
    pub(crate) ports: [Option<u16>; 2],
}

/// What two limits have in common; nothing where they exclude each other.
fn both<T: PartialEq>(one: Option<T>, other: Option<T>) -> Option<Option<T>> {
    match (one, other) {
        (Some(one), Some(other)) => (one == other).then_some(Some(one)),
        (one, other) => Some(one.or(other)),
    }
}

impl Wanted {
    /// What the initiator asks for.
    pub(crate) fn by_initiator(child: &Child) -> Wanted {
        Wanted {
            near: child.local.value.clone(),
            far: child.remote.value.clone(),
            protocol: child.protocol.value,
            ports: child.ports.value,
        }
    }

    /// The same of the responder.
    pub(crate) fn by_responder(child: &Child) -> Wanted {
        let [own, far] = child.ports.value;
        Wanted { near: child.remote.value.clone(), far: child.local.value.clone(), protocol: child.protocol.value, ports: [far, own] }
    }

    /// Whether the two are limited to the same IP protocol and ports.
    pub(crate) fn is_limited_as(&self, other: &Wanted) -> bool {
        (self.protocol, self.ports) == (other.protocol, other.ports)
    }

    /// Whether the two are the same, in whatever order.
    pub(crate) fn same(&self, other: &Wanted) -> bool {
        self.lists(other) && other.lists(self)
    }

    /// Whether each network of the other is one of these, and the protocol is the same.
    fn lists(&self, other: &Wanted) -> bool {
        let within = |all: &[IpNet], some: &[IpNet]| some.iter().all(|net| all.contains(net));
        within(&self.near, &other.near) && within(&self.far, &other.far) && self.is_limited_as(other)
    }

    /// What is in both; nothing where one side of it would be empty.
    pub(crate) fn shared(&self, other: &Wanted) -> Option<Wanted> {
        let protocol = both(self.protocol, other.protocol)?;
        let ports = [both(self.ports[0], other.ports[0])?, both(self.ports[1], other.ports[1])?];
        let both = Wanted { near: intersection(&self.near, &other.near), far: intersection(&self.far, &other.far), protocol, ports };
        (!both.near.is_empty() && !both.far.is_empty()).then_some(both)
    }

    /// Whether it is a part of another one that names everything on one side, and else the same.
    pub(crate) fn is_of_everything(&self, wanted: &Wanted) -> bool {
        let alike = |own: &[IpNet], asked: &[IpNet]| {
            own.iter().all(|net| asked.contains(net)) && asked.iter().all(|net| own.contains(net))
                || matches!(asked, [all] if all.prefix_len() == 0)
        };
        self.is_limited_as(wanted) && alike(&self.near, &wanted.near) && alike(&self.far, &wanted.far)
    }

    /// Every pair, from the networks of the initiator.
    pub(crate) fn pairs(&self) -> Vec<(IpNet, IpNet)> {
        let mut pairs: Vec<_> = self.near.iter().flat_map(|near| self.far.iter().map(move |far| (*near, *far))).collect();
        pairs.sort();
        pairs.dedup();
        pairs
    }
}

fn intersection(one: &[IpNet], other: &[IpNet]) -> Vec<IpNet> {
    let part = |a: &IpNet, b: &IpNet| if b.contains(a) { Some(*a) } else { a.contains(b).then_some(*b) };
    let mut nets: Vec<_> = one.iter().flat_map(|a| other.iter().filter_map(move |b| part(a, b))).collect();
    nets.sort();
    nets.dedup();
    // What is in another one is not there for itself.
    let all = nets.clone();
    nets.retain(|net| all.iter().all(|other| other == net || !other.contains(net)));
    nets
}

/// What a responder makes of what is asked for, given one of its own Child SAs.
pub(crate) fn answer(narrowing: Narrowing, asked: &Wanted, own: &Wanted) -> Option<Wanted> {
    match narrowing {
        Narrowing::ToTheCommonPart => asked.shared(own),
        Narrowing::Never => asked.lists(own).then(|| own.clone()),
        Narrowing::Unasked => Some(own.clone()),
    }
}

/// What an initiator sends through the SA, given the answer; nothing where it refuses that.
pub(crate) fn taken(narrowing: Narrowing, own: &Wanted, answered: &Wanted) -> Option<Wanted> {
    match narrowing {
        Narrowing::ToTheCommonPart => own.shared(answered),
        Narrowing::Never => answered.lists(own).then(|| own.clone()),
        Narrowing::Unasked => Some(own.clone()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wanted(near: &[&str], far: &[&str]) -> Wanted {
        let nets = |list: &[&str]| list.iter().map(|net| net.parse().expect("a network")).collect();
        Wanted { near: nets(near), far: nets(far), protocol: None, ports: [None, None] }
    }

    /// RFC 7296 section 2.9: the responder narrows to a subset.
    #[test]
    fn the_common_part_is_what_both_cover() {
        let (asked, own) = (wanted(&["10.1.0.0/16"], &["10.2.0.0/16"]), wanted(&["10.1.4.0/24", "10.9.0.0/24"], &["10.0.0.0/8"]));
        assert_eq!(answer(Narrowing::ToTheCommonPart, &asked, &own), Some(wanted(&["10.1.4.0/24"], &["10.2.0.0/16"])));
        assert_eq!(answer(Narrowing::Never, &asked, &own), None);
        assert_eq!(answer(Narrowing::Unasked, &asked, &own), Some(own));
        assert_eq!(answer(Narrowing::ToTheCommonPart, &asked, &wanted(&["10.1.0.0/16"], &["10.3.0.0/16"])), None);
    }

    #[test]
    fn one_of_several_that_are_asked_for_is_enough_where_nothing_is_narrowed() {
        let (asked, own) = (wanted(&["10.1.0.0/16", "10.5.0.0/16"], &["10.2.0.0/16"]), wanted(&["10.1.0.0/16"], &["10.2.0.0/16"]));
        assert_eq!(answer(Narrowing::Never, &asked, &own), Some(own.clone()));
        assert_eq!(answer(Narrowing::Never, &own, &asked), None);
        assert_eq!(taken(Narrowing::Never, &own, &asked), Some(own));
    }

    #[test]
    fn the_order_of_networks_says_nothing_and_a_protocol_does() {
        let one = wanted(&["10.1.0.0/16", "10.5.0.0/16"], &["10.2.0.0/16"]);
        let turned = wanted(&["10.5.0.0/16", "10.1.0.0/16"], &["10.2.0.0/16"]);
        assert!(one.same(&turned) && taken(Narrowing::Never, &one, &turned).is_some());
        let limited = Wanted { protocol: Some(47), ..one.clone() };
        assert!(!one.same(&limited));
        assert_eq!(one.shared(&limited).and_then(|both| both.protocol), Some(47));
        assert_eq!(Wanted { protocol: Some(6), ..one }.shared(&limited), None);
    }
}

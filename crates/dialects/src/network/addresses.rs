//! The gateway's own addresses, from interfaces(5) and from systemd.network(5). Everything else in those files is about
//! other things, and left to them.

use std::net::IpAddr;

use ipnet::IpNet;

use super::listing;
use uspan_model::gateway::{Endpoint, OwnAddress, ReadAt, Tree};
use uspan_model::source::Source;

const INTERFACES: &str = "etc/network/interfaces";
const INTERFACES_FOLDER: &str = "etc/network/interfaces.d";
const NETWORKD: &str = "etc/systemd/network";

/// Every address that an interface has, as it was listed; or that the files give it. Total.
pub fn addresses(tree: &Tree) -> Vec<OwnAddress> {
    if let Some(file) = tree.files.get(listing::ADDRESSES) {
        return listing::of_listing(&Source::new(listing::ADDRESSES, file.text.as_str()));
    }
    let main = tree.files.get(INTERFACES).map(|file| (INTERFACES, file));
    let more = tree.in_folder(INTERFACES_FOLDER, "");
    let classic = main.into_iter().chain(more).flat_map(|(path, file)| of_interfaces(&Source::new(path, file.text.as_str())));
    let networkd = tree.in_folder(NETWORKD, ".network").flat_map(|(path, file)| of_networkd(&Source::new(path, file.text.as_str())));
    classic.chain(networkd).collect()
}

/// The address that the gateway has towards a peer, where the files tell: the one in the network that the peer is in, else the one in the
/// network of the router behind which everything else is.
pub fn own_address(tree: &Tree, peer: &Endpoint) -> Option<IpAddr> {
    let all: Vec<IpNet> = addresses(tree).into_iter().filter(|own| comes_up(tree, own)).map(|own| own.address).collect();
    let only = |fits: &dyn Fn(&IpNet) -> bool| {
        let mut found = all.iter().filter(|own| own.prefix_len() < own.max_prefix_len() && fits(own)).map(IpNet::addr);
        let first = found.next();
        first.filter(|_| found.next().is_none())
    };
    let peer = peer.first().address();
    let near = peer.and_then(|peer| only(&|own| own.contains(&peer)));
    near.or_else(|| {
        let routers: Vec<_> =
            routers(tree).into_iter().filter(|router| peer.is_none_or(|peer| peer.is_ipv4() == router.is_ipv4())).collect();
        only(&|own| routers.iter().any(|router| own.contains(router)))
    })
}

/// Whether an interface comes up by itself, as far as interfaces(5) says it.
fn comes_up(tree: &Tree, own: &OwnAddress) -> bool {
    let Some(file) = own.place.0.as_ref().map(|place| &*place.file).filter(|file| file.starts_with(INTERFACES)) else { return true };
    let text = tree.files.get(file).map_or("", |file| file.text.as_str());
    let raises = |line: &str| {
        let mut words = line.split_whitespace();
        let is_list = words.next().is_some_and(|word| word == "auto" || word.starts_with("allow-"));
        is_list && words.any(|name| name == own.interface)
    };
    // Files that raise nothing are extracts.
    !text.lines().any(|line| line.starts_with("auto ") || line.starts_with("allow-")) || text.lines().any(raises)
}

/// The routers behind which everything is that no other route is for.
fn routers(tree: &Tree) -> Vec<IpAddr> {
    let texts = |path: &str| tree.files.get(path).map(|file| file.text.as_str());
    let folder = |folder, end| tree.in_folder(folder, end).map(|(_, file)| file.text.as_str());
    let files = texts(INTERFACES).into_iter().chain(folder(INTERFACES_FOLDER, "")).chain(folder(NETWORKD, ".network"));
    let of_file = |line: &str| {
        let line = line.trim();
        let said = line.strip_prefix("gateway ").or_else(|| line.strip_prefix("Gateway")?.trim_start().strip_prefix('='));
        said?.trim().parse().ok()
    };
    let listed = listing::ROUTES.iter().filter_map(|(path, _)| texts(path)).flat_map(str::lines);
    let of_listing = |line: &str| line.strip_prefix("default via ")?.split_whitespace().next()?.parse().ok();
    files.flat_map(str::lines).filter_map(of_file).chain(listed.filter_map(of_listing)).collect()
}

/// An address with its prefix length; without one it is a host's.
fn address(text: &str, netmask: Option<&str>) -> Option<IpNet> {
    if let Ok(net) = text.parse() {
        return Some(net);
    }
    let address: IpAddr = text.parse().ok()?;
    match netmask {
        Some(mask) => IpNet::with_netmask(address, mask.parse().ok()?).ok(),
        None => Some(address.into()),
    }
}

fn of_interfaces(source: &Source) -> Vec<OwnAddress> {
    let mut found: Vec<OwnAddress> = Vec::new();
    let mut interface = None;
    for (line, span) in source.lines() {
        let words: Vec<&str> = line.split_whitespace().collect();
        match (words.as_slice(), interface) {
            (["iface", name, ..], _) => interface = Some(*name),
            (["auto" | "mapping" | "source" | "source-directory", ..], _) => interface = None,
            (["address", text], Some(name)) => {
                let place = ReadAt(Some(source.place(span)));
                found.extend(address(text, None).map(|address| OwnAddress { interface: name.to_owned(), address, place }));
            }
            // The mask of an old spelling follows its address.
            (["netmask", mask], Some(name)) => {
                if let Some(last) = found.last_mut().filter(|last| last.interface == name)
                    && let Some(net) = address(&last.address.addr().to_string(), Some(mask)).or_else(|| {
                        let length = mask.parse().ok()?;
                        IpNet::new(last.address.addr(), length).ok()
                    })
                {
                    last.address = net;
                }
            }
            _ => {}
        }
    }
    found
}

fn of_networkd(source: &Source) -> Vec<OwnAddress> {
    let mut found = Vec::new();
    let (mut section, mut interface) = ("", None);
    for (line, span) in source.lines() {
        let value = |key: &str| line.strip_prefix(key)?.trim_start().strip_prefix('=').map(str::trim);
        if line.starts_with('[') {
            section = line.trim_matches(['[', ']']);
        } else if let ("Match", Some(name)) = (section, value("Name")) {
            interface = name.split_whitespace().next();
        } else if let ("Network" | "Address", Some(text), Some(name)) = (section, value("Address"), interface) {
            let place = ReadAt(Some(source.place(span)));
            found.extend(address(text, None).map(|address| OwnAddress { interface: name.to_owned(), address, place }));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use uspan_model::gateway::TreeFile;

    fn found(path: &str, text: &str) -> Vec<String> {
        let mut tree = Tree::default();
        tree.add(path, TreeFile::public(text.to_owned()));
        addresses(&tree).iter().map(|own| format!("{} {}", own.interface, own.address)).collect()
    }

    #[test]
    fn addresses_of_interfaces_in_both_spellings() {
        let text = "auto lo wan0\niface lo inet loopback\niface wan0 inet static\n\taddress 198.51.100.20\n\tnetmask 255.255.255.0\n\tgateway 198.51.100.1\n\
                    iface lan0 inet static\n    address 10.41.0.1/22\niface lan0 inet6 static\n address 2001:db8:41::1\n netmask 64\n";
        assert_eq!(found("etc/network/interfaces", text), ["wan0 198.51.100.20/24", "lan0 10.41.0.1/22", "lan0 2001:db8:41::1/64"]);
    }

    #[test]
    fn addresses_of_networkd() {
        let text = "[Match]\nName=lan0 lan1\n\n[Network]\n# inside\nAddress = 10.41.0.1/22\nAddress=2001:db8:41::1/64\n[Route]\nAddress=10.0.0.1\n";
        assert_eq!(found("etc/systemd/network/20-lan.network", text), ["lan0 10.41.0.1/22", "lan0 2001:db8:41::1/64"]);
    }

    #[test]
    fn the_own_address_is_that_towards_the_peer() {
        let text =
            "iface wan0 inet static\n\taddress 198.51.100.20/24\n\tgateway 198.51.100.1\niface lan0 inet static\n address 10.41.0.1/22\n";
        let own = |more: &str, peer: &str| {
            let mut tree = Tree::default();
            tree.add(INTERFACES, TreeFile::public([text, more].concat()));
            own_address(&tree, &Endpoint::read(peer).expect("an end")).map(|address| address.to_string())
        };
        assert_eq!(own("", "203.0.113.77").as_deref(), Some("198.51.100.20"));
        assert_eq!(own("", "10.41.3.7").as_deref(), Some("10.41.0.1"));
        assert_eq!(own("", "gw.example.net").as_deref(), Some("198.51.100.20"));
        assert_eq!(own("", "2001:db8::1"), None);
        assert_eq!(own("iface wan0 inet static\n\taddress 198.51.100.21/24\n", "203.0.113.77"), None);
    }

    proptest! {
        #[test]
        fn any_text_is_survived(text in "[iface adrsnetmk0-9./:=\\[\\]NMAh#\n\té]{0,200}") {
            let _ = found("etc/network/interfaces", &text);
            let _ = found("etc/systemd/network/a.network", &text);
            let mut tree = Tree::default();
            tree.add(INTERFACES, TreeFile::public(text));
            let _ = own_address(&tree, &Endpoint::Anywhere);
        }
    }
}

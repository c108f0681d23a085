//! The gateway's own addresses, from interfaces(5) and from systemd.network(5). Everything else in those files is about
//! other things, and left to them.

use std::net::IpAddr;

use ipnet::IpNet;

use super::listing;
use uspan_model::gateway::{OwnAddress, ReadAt, Tree};
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

    proptest! {
        #[test]
        fn any_text_is_survived(text in "[iface adrsnetmk0-9./:=\\[\\]NMAh#\n\té]{0,200}") {
            let _ = found("etc/network/interfaces", &text);
            let _ = found("etc/systemd/network/a.network", &text);
        }
    }
}

//! Addresses and prefixes as text, for the writers: a fleet has very many of them, and what comes with the standard library
//! puts each group of an IPv6 address through its formatter.

use std::net::{IpAddr, Ipv6Addr};

use ipnet::IpNet;

use crate::gateway::Endpoint;

/// As much as the longest prefix takes.
const LONGEST: usize = "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff/128".len();

/// An address, as it displays.
pub fn address(address: IpAddr) -> String {
    match address {
        IpAddr::V4(v4) => v4.to_string(),
        IpAddr::V6(v6) if v6.to_ipv4_mapped().is_some() => v6.to_string(),
        IpAddr::V6(v6) => {
            let mut text = String::with_capacity(LONGEST);
            groups(&mut text, v6);
            text
        }
    }
}

/// Where an end is, several places with commas between them; `anywhere` is the word for one that may be anywhere.
pub fn endpoint(end: &Endpoint, anywhere: &str) -> String {
    match end {
        Endpoint::At(at) => address(*at),
        Endpoint::Named(name) => name.clone(),
        Endpoint::Within(net) => prefix(*net),
        Endpoint::OneOf(several) => several.iter().map(|one| endpoint(one, anywhere)).collect::<Vec<_>>().join(", "),
        Endpoint::Anywhere => anywhere.to_owned(),
    }
}

/// A prefix, as it displays.
pub fn prefix(net: IpNet) -> String {
    let mut text = address(net.addr());
    text.push('/');
    let length = net.prefix_len();
    for digit in [length / 100, length / 10 % 10, length % 10].into_iter().skip(2 - usize::from(length > 9) - usize::from(length > 99)) {
        text.push(char::from(b'0' + digit));
    }
    text
}

/// An IPv6 address (RFC 5952 section 4): no leading zeros, the first of the longest runs of two zeros or more left out.
fn groups(text: &mut String, address: Ipv6Addr) {
    let groups = address.segments();
    let (mut longest, mut run) = (0..0, 0..0);
    for (at, group) in groups.iter().enumerate() {
        run = if *group == 0 { run.start..at + 1 } else { at + 1..at + 1 };
        if run.len() > longest.len() {
            longest = run.clone();
        }
    }
    if longest.len() < 2 {
        longest = groups.len()..groups.len();
    }
    for (at, group) in groups.iter().enumerate() {
        if at == longest.start {
            text.push_str("::");
        }
        if longest.contains(&at) {
            continue;
        }
        if at > 0 && at != longest.end {
            text.push(':');
        }
        let digits = 4 - (group.leading_zeros() / 4).min(3);
        for digit in (0..digits).rev() {
            text.push(char::from(b"0123456789abcdef"[usize::from(group >> (4 * digit) & 15)]));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn it_is_what_they_display(groups in prop::array::uniform8(prop_oneof![Just(0_u16), 0..20_u16, any::<u16>()]), v4 in any::<u32>(), length in 0..=128_u8) {
            for (one, length) in [(IpAddr::from(Ipv6Addr::from(groups)), length), (IpAddr::V4(v4.into()), length % 33)] {
                prop_assert_eq!(address(one), one.to_string());
                let net = IpNet::new(one, length).expect("a length of the family");
                prop_assert_eq!(prefix(net), net.to_string());
            }
        }
    }

    #[test]
    fn those_with_names_of_their_own() {
        for text in ["::", "::1", "1::", "::ffff:192.0.2.1", "::192.0.2.1", "2001:db8::1:0:0:1", "2001:db8:0:1:1:1:1:1"] {
            let one: IpAddr = text.parse().expect("an address");
            assert_eq!(address(one), one.to_string());
        }
    }
}

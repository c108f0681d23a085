//! Small texts with a form of their own: names, prefixes, identities.

use std::net::IpAddr;

use ipnet::IpNet;

pub use uspan_model::gateway::is_dns_name;

/// Whether a text is a name that every platform can carry as part of a file or section name.
pub fn is_name(text: &str) -> bool {
    let mut bytes = text.bytes();
    bytes.next().is_some_and(|b| b.is_ascii_lowercase())
        && text.len() <= 32
        && bytes.all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-')
}

/// What is wrong with a prefix.
#[derive(Debug, PartialEq, Eq)]
pub enum PrefixError {
    /// No prefix at all; perhaps with a hint at what was meant.
    Malformed(&'static str),
    /// Bits behind the length are set; the network that was probably meant.
    HostBits(IpNet),
}

/// Reads a prefix and insists on clear host bits.
pub fn parse_prefix(text: &str) -> Result<IpNet, PrefixError> {
    let Some((address, length)) = text.split_once('/') else {
        return Err(PrefixError::Malformed(match text.parse::<IpAddr>() {
            Ok(_) => "the prefix length is missing",
            Err(_) => "a prefix is an address, a slash and a length",
        }));
    };
    if address.parse::<IpAddr>().is_err() {
        return Err(PrefixError::Malformed("what stands before the slash is no address"));
    }
    if length.contains('.') {
        return Err(PrefixError::Malformed("a mask stands where the prefix length belongs"));
    }
    let net: IpNet = text.parse().map_err(|_| PrefixError::Malformed("the length does not fit the address"))?;
    if net.trunc() == net { Ok(net) } else { Err(PrefixError::HostBits(net.trunc())) }
}

/// Whether a text has the form of a mail address with a plain local part.
pub fn is_mail_name(text: &str) -> bool {
    text.split_once('@').is_some_and(|(local, domain)| {
        (1..=64).contains(&local.len()) && local.bytes().all(|b| b.is_ascii_alphanumeric() || b"._+-".contains(&b)) && is_dns_name(domain)
    })
}

/// Whether a free name can be carried by every dialect without quoting.
pub fn is_free_name(text: &str) -> bool {
    (1..=64).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"._-+/:".contains(&b))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn host_bits_are_found_and_the_network_offered() {
        assert_eq!(parse_prefix("10.41.0.1/22"), Err(PrefixError::HostBits("10.41.0.0/22".parse().expect("net"))));
        assert_eq!(parse_prefix("10.41.0.0/99"), Err(PrefixError::Malformed("the length does not fit the address")));
        assert!(parse_prefix("2001:db8::/32").is_ok());
        assert!(matches!(parse_prefix("10.41.0.0"), Err(PrefixError::Malformed("the prefix length is missing"))));
        assert!(matches!(parse_prefix("10.0.0.0/255.0.0.0"), Err(PrefixError::Malformed(_))));
    }

    #[test]
    fn names_of_every_kind() {
        assert!(is_name("cold-store2") && !is_name("Cold") && !is_name("2cold") && !is_name("") && !is_name("a.b"));
        assert!(is_dns_name("packhouse.example.net") && !is_dns_name("-a.net") && !is_dns_name("10.0.0.1") && !is_dns_name("a..b"));
        assert!(is_mail_name("gate+7@example.net") && !is_mail_name("gate@") && !is_mail_name("a b@example.net"));
        assert!(is_free_name("orchard/7") && !is_free_name("orchard 7") && !is_free_name("a]b"));
    }
}

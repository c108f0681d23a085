//! Small texts with a form of their own: names, durations, prefixes, identities.

use std::net::IpAddr;
use std::time::Duration;

use ipnet::IpNet;

/// Whether a text is a name that every platform can carry as part of a file or section name.
pub fn is_name(text: &str) -> bool {
    let mut bytes = text.bytes();
    bytes.next().is_some_and(|b| b.is_ascii_lowercase())
        && text.len() <= 32
        && bytes.all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-')
}

/// Reads `3600s`, `90m`, `8h`, `1d`.
pub fn parse_duration(text: &str) -> Option<Duration> {
    let unit = match text.as_bytes().last()? {
        b's' => 1,
        b'm' => 60,
        b'h' => 3_600,
        b'd' => 86_400,
        _ => return None,
    };
    let number = &text[..text.len() - 1];
    if number.is_empty() || !number.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    number.parse::<u64>().ok()?.checked_mul(unit).map(Duration::from_secs)
}

/// Writes a duration in the largest unit that divides it.
pub fn duration_words(duration: Duration) -> String {
    let seconds = duration.as_secs();
    for (unit, size) in [("d", 86_400), ("h", 3_600), ("m", 60)] {
        if seconds >= size && seconds.is_multiple_of(size) {
            return format!("{}{unit}", seconds / size);
        }
    }
    format!("{seconds}s")
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

/// Whether a text is a host name (RFC 1123 section 2.1) and not a dotted address.
pub fn is_dns_name(text: &str) -> bool {
    let labels: Vec<_> = text.split('.').collect();
    text.len() <= 253
        && labels.iter().all(|label| {
            (1..=63).contains(&label.len())
                && label.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-')
                && !label.starts_with('-')
                && !label.ends_with('-')
        })
        && labels.last().is_some_and(|last| last.bytes().any(|b| b.is_ascii_alphabetic()))
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
    fn durations_need_a_unit() {
        assert_eq!(parse_duration("90m"), Some(Duration::from_secs(5_400)));
        assert_eq!(parse_duration("1d"), Some(Duration::from_secs(86_400)));
        for bad in ["", "90", "h", "-1h", "1.5h", "1w", "1 h", "99999999999999999999d", "٣h"] {
            assert_eq!(parse_duration(bad), None, "{bad}");
        }
    }

    #[test]
    fn durations_are_written_in_their_largest_unit() {
        for (seconds, words) in [(3_600, "1h"), (5_400, "90m"), (86_400, "1d"), (61, "61s"), (0, "0s")] {
            assert_eq!(duration_words(Duration::from_secs(seconds)), words);
        }
    }

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

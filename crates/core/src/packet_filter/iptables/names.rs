//! Names of chains.

use std::fmt::Write as _;

/// The longest name that iptables(8) takes for a chain is 28 characters.
const LONGEST: usize = 28;

/// What our chains are for, as the ends of their names.
pub(super) const NAT: &str = "-nat";
pub(super) const INPUT: &str = "-in";
pub(super) const FORWARD: &str = "-fwd";

/// The name of a tunnel's chain. A name that is too long is cut, and a digest of the whole keeps it apart from others.
pub(super) fn chain(stem: &str, role: &str) -> String {
    const HEAD: &str = "uspan-";
    let room = LONGEST - HEAD.len() - FORWARD.len();
    let mut name = HEAD.to_owned();
    if stem.len() <= room {
        name.push_str(stem);
    } else {
        let kept: String = stem.chars().take(room - 9).collect();
        let _ = write!(name, "{kept}-{:08x}", digest(stem));
    }
    name + role
}

/// FNV-1a, 32 bits (draft-eastlake-fnv): the same on every machine and in every version.
fn digest(text: &str) -> u32 {
    text.bytes().fold(0x811c_9dc5, |hash, byte| (hash ^ u32::from(byte)).wrapping_mul(0x0100_0193))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_names_are_cut_and_stay_apart() {
        assert_eq!(chain("harvest", NAT), "uspan-harvest-nat");
        let (one, other) = (chain("packhouse-to-coldstore-1", FORWARD), chain("packhouse-to-coldstore-2", FORWARD));
        assert!(one.len() <= LONGEST && other.len() <= LONGEST && one != other, "{one} {other}");
    }

    #[test]
    fn the_digest_is_the_published_one() {
        // From the test vectors of draft-eastlake-fnv.
        assert_eq!((digest(""), digest("a"), digest("foobar")), (0x811c_9dc5, 0xe40c_292c, 0xbf9c_f968));
    }
}

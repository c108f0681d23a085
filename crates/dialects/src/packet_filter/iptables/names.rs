//! Names of chains.

use std::fmt::Write as _;

use uspan_model::digest::digest;

/// The longest name that iptables(8) takes for a chain is 28 characters, and a prefix in the log one more.
const LONGEST: usize = 28;

/// What our chains are for, as the ends of their names.
pub(in super::super) const NAT: &str = "-nat";
pub(in super::super) const DESTINATION: &str = "-dst";
pub(in super::super) const SEGMENTS: &str = "-mss";
pub(in super::super) const INPUT: &str = "-in";
pub(in super::super) const FORWARD: &str = "-fwd";
pub(in super::super) const OUTPUT: &str = "-out";
/// And the head of what they write to the log.
pub(in super::super) const LOG: &str = ": ";

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_names_are_cut_and_stay_apart() {
        assert_eq!(chain("harvest", NAT), "uspan-harvest-nat");
        let (one, other) = (chain("packhouse-to-coldstore-1", FORWARD), chain("packhouse-to-coldstore-2", FORWARD));
        assert!(one.len() <= LONGEST && other.len() <= LONGEST && one != other, "{one} {other}");
    }
}

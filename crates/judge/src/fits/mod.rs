//! Whether two ends fit: the one judge that comparing, rehearsing, holding and adopting ask.

pub(crate) mod keys;
pub mod proposals;
pub(crate) mod selectors;

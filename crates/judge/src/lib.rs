//! Whether two gateways fit, as their files say: what does not ([`fits`]), the two ends compared ([`compare`]), a negotiation rehearsed
//! ([`rehearse`]), a packet followed ([`walk`]).
//!
//! Nothing here knows a description, or a platform by its name.

pub mod actor;
pub mod compare;
pub mod fits;
pub mod rehearse;
pub mod walk;

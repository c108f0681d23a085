//! The description of a tunnel, as an engineer writes it, and the way down to two gateways: what is checked, what both ends agree on, and
//! the agreement as seen from each side.

pub mod agreement;
pub mod check;
pub mod description;
pub mod sides;

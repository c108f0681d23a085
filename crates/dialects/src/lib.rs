//! What stands on gateways: each platform, packet filter and way to set up interfaces and routing writes a gateway of the hub model as
//! files, and reads such files back.
//!
//! Nothing here knows a description: what is read is read as a stranger's.

pub mod context;
pub mod delivery;
pub mod dialect;
pub mod foreign;
pub mod network;
pub mod packet_filter;
pub mod platform;
pub mod profile;
pub mod routing;
pub mod secrecy;
mod text;

//! Packet filters: how NAT exemption and filter rules are written and read.
//!
//! Beside the IKE daemon a gateway has a packet filter; the two are independent, so this is a
//! table of its own.

mod nftables;

pub(crate) use nftables::EXEMPTION_ORDER;
pub use nftables::{FOLDER as NFTABLES_FOLDER, NFTABLES};

use crate::finding::Finding;
use crate::gateway::{Filter, Gateway, NatRule, Tree};
use crate::platform::{Remarks, Unwritable};

/// A packet filter: writes and reads the NAT and filter part of a gateway.
pub trait PacketFilter: Sync {
    /// Name and version, for people.
    fn title(&self) -> &'static str;

    /// Writes the rules of one tunnel.
    ///
    /// # Errors
    /// What the dialect cannot express.
    fn write(&self, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>>;

    /// Reads the rules. Total: what is not understood is reported.
    fn read(&self, tree: &Tree) -> (Vec<NatRule>, Option<Filter>, Vec<Finding>);
}

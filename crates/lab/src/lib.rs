//! The lab: real IKE daemons.

//! The hub model of Unified Span: what a gateway is, in the words of RFC 4301 and RFC 7296, and what everything else speaks of it in:
//! algorithms (IANA's registries), identities, keys, secrets, places in a text, findings.
//!
//! Nothing here knows a platform or a description.

pub mod address_text;
pub mod algorithm;
pub mod digest;
pub mod duration;
pub mod effort;
pub mod finding;
pub mod gateway;
pub mod identity;
pub mod key;
pub mod mtu;
pub mod origins;
pub mod pairing;
pub mod parallel;
pub mod parameter;
pub mod secret;
pub mod source;
pub mod subject;
pub mod trade;

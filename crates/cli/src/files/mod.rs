//! Files: descriptions and secrets in, trees of configuration out.

#[cfg(feature = "certificates")]
pub mod authority;
pub mod input;
pub mod keys;
pub mod output;
pub mod reading;
pub mod secret;
pub mod single;
pub mod staging;
mod strength;
pub mod trees;

//! Files: descriptions and secrets in, trees of configuration out.

pub mod authority;
pub mod input;
pub mod keys;
pub mod output;
pub mod secret;
pub mod trees;

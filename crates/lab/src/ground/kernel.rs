//! The guest kernel: Debian's kernel source for user mode, with what the lab needs and no modules.

use std::path::{Path, PathBuf};

use ring::digest::{Context, SHA256};

/// What the kernel must have, beside the defaults of its architecture.
pub const KERNEL_CONFIG: &str = include_str!("../../kernel/config");

/// How it is built.
pub const KERNEL_BUILD: &str = include_str!("../../scripts/build-kernel.sh");

/// Where the kernel stands in the cache. Its name follows from how it is built, so that a change builds it anew.
pub fn kernel_file(cache: &Path) -> PathBuf {
    let mut digest = Context::new(&SHA256);
    digest.update(KERNEL_CONFIG.as_bytes());
    digest.update(KERNEL_BUILD.as_bytes());
    let mark: String = digest.finish().as_ref().iter().take(6).map(|byte| format!("{byte:02x}")).collect();
    cache.join(format!("linux-{mark}"))
}

//! What follows from a whole description, worked out once.

use std::sync::OnceLock;

/// A value that is worked out when it is first asked for. A copy of the description may be changed, and works it out anew.
#[derive(Debug)]
pub(crate) struct WorkedOut<T>(OnceLock<T>);

impl<T> WorkedOut<T> {
    /// The value, which `work` gives the first time.
    pub(crate) fn get(&self, work: impl FnOnce() -> T) -> &T {
        self.0.get_or_init(work)
    }
}

impl<T> Default for WorkedOut<T> {
    fn default() -> WorkedOut<T> {
        WorkedOut(OnceLock::new())
    }
}

impl<T> Clone for WorkedOut<T> {
    fn clone(&self) -> WorkedOut<T> {
        WorkedOut::default()
    }
}

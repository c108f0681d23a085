//! How much work readers and comparisons do: counted in steps, so that it can be held against the size of what they were given.
//!
//! A step is one look of a loop that could go round more often than its input is long: a setting that is taken over, a file that is
//! included once more, two Child SAs that are held against each other. Seconds would say the same on no two machines.

use std::cell::Cell;

thread_local! {
    static STEPS: Cell<u64> = const { Cell::new(0) };
}

/// So many steps more.
pub fn steps(count: usize) {
    STEPS.with(|steps| steps.set(steps.get().wrapping_add(count as u64)));
}

/// Does something and says how many steps it took, on this thread.
pub fn counted<T>(work: impl FnOnce() -> T) -> (T, u64) {
    let before = STEPS.with(Cell::get);
    let done = work();
    (done, STEPS.with(Cell::get).wrapping_sub(before))
}

/// What there is to spend on an input: some for each of its bytes.
#[derive(Clone, Copy, Debug)]
pub struct Budget(usize);

impl Budget {
    /// As often each byte of an input may be looked at, over whatever detours.
    const TIMES: usize = 16;
    /// For inputs of a few lines.
    const LEAST: usize = 50_000;

    /// For an input of this length.
    pub fn of(bytes: usize) -> Budget {
        Budget(bytes.saturating_mul(Budget::TIMES) + Budget::LEAST)
    }

    /// Spends some; `false` where nothing is left then.
    pub fn spend(&mut self, count: usize) -> bool {
        steps(count);
        self.0 = self.0.saturating_sub(count);
        self.0 > 0
    }
}

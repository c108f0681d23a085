//! Progress on standard error, for what takes longer than a second; nothing where that is no terminal.

use std::cell::Cell;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// A count that shows itself after a second.
pub struct Progress {
    bar: ProgressBar,
    since: Instant,
    /// Whether it was given to the terminal; asked for at each step, the terminal would be asked, too.
    shown: Cell<bool>,
}

impl Progress {
    /// Starts counting to `length` under a label.
    pub fn new(label: &'static str, length: usize) -> Self {
        let bar = ProgressBar::with_draw_target(Some(length as u64), ProgressDrawTarget::hidden());
        let style = ProgressStyle::with_template("{msg} {pos} of {len}").unwrap_or_else(|_| ProgressStyle::default_bar());
        bar.set_style(style);
        bar.set_message(label);
        Progress { bar, since: Instant::now(), shown: Cell::new(false) }
    }

    /// One more is done.
    pub fn step(&self) {
        if !self.shown.get() && self.since.elapsed() > Duration::from_secs(1) {
            self.shown.set(true);
            self.bar.set_draw_target(ProgressDrawTarget::stderr());
        }
        self.bar.inc(1);
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

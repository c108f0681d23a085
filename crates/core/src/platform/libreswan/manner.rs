//! How it negotiates, and what it writes into its log.

use super::super::{Line, Manner, Narrowing, Preference};

pub(super) static MANNER: Manner =
    Manner { preference: Preference::Own, narrowing: Narrowing::Never, narrowing_v1: Narrowing::Never, says: SAYS };

const SAYS: &[(Line, &str)] = &[];

//! What it offers by itself, as its peers receive it; the tables of iked.conf(5) mark the same values.

use crate::profile::{DefaultProposal, DefaultProposals};

const GROUPS: &[u16] = &[31, 21, 20, 19, 16, 15, 14, 5, 2];
const PRFS: &[u16] = &[5, 6, 7, 2];

const IKE: &[DefaultProposal] = &[
    DefaultProposal::of(&[(20, 128), (20, 256)], &[], PRFS, GROUPS),
    DefaultProposal::of(&[(12, 256), (12, 192), (12, 128), (3, 0)], &[12, 13, 14, 2], PRFS, GROUPS),
];

const ESP: &[DefaultProposal] = &[DefaultProposal::of(&[(12, 256), (12, 192), (12, 128)], &[13, 14, 2], &[], &[])];

pub(super) const OFFERS: DefaultProposals = DefaultProposals::of(IKE, ESP, &[], &[]);

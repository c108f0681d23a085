//! What it offers by itself, as it logs it with `cfg = 2` (strongswan.conf(5)) and the packages of [`super::facts`].

use crate::profile::{DefaultProposal, DefaultProposals};

const GROUPS: &[u16] = &[31, 32, 19, 20, 21, 28, 29, 30, 15, 16, 17, 18, 14];
const PRFS: &[u16] = &[5, 6, 7, 4, 8, 2];

#[rustfmt::skip]
const IKE: &[DefaultProposal] = &[
    DefaultProposal::of(&[(12, 128), (12, 192), (12, 256), (13, 128), (13, 192), (13, 256), (23, 128), (23, 192), (23, 256), (3, 0)], &[12, 13, 14, 5, 8, 2], PRFS, GROUPS),
    DefaultProposal::of(&[
            (16, 128), (16, 192), (16, 256), (20, 128), (20, 192), (20, 256), (28, 0), (14, 128), (14, 192), (14, 256),
            (15, 128), (15, 192), (15, 256), (18, 128), (18, 192), (18, 256), (19, 128), (19, 192), (19, 256),
        ], &[], PRFS, GROUPS),
];

const ESP: &[DefaultProposal] = &[
    DefaultProposal::of(&[(20, 128), (20, 192), (20, 256)], &[], &[], &[]),
    DefaultProposal::of(&[(12, 128), (12, 192), (12, 256)], &[12, 13, 14, 2, 5], &[], &[]),
];

pub(super) const OFFERS: DefaultProposals = DefaultProposals::of(IKE, ESP, IKE, ESP);

//! What it offers by itself, as its peers receive it; the tables of iked.conf(5) mark the same values.

use super::super::{DefaultProposal, DefaultProposals};

const GROUPS: &[u16] = &[31, 21, 20, 19, 16, 15, 14, 5, 2];
const PRFS: &[u16] = &[5, 6, 7, 2];

const IKE: &[DefaultProposal] = &[
    DefaultProposal { ciphers: &[(20, 128), (20, 256)], integrities: &[], prfs: PRFS, groups: GROUPS },
    DefaultProposal { ciphers: &[(12, 256), (12, 192), (12, 128), (3, 0)], integrities: &[12, 13, 14, 2], prfs: PRFS, groups: GROUPS },
];

const ESP: &[DefaultProposal] =
    &[DefaultProposal { ciphers: &[(12, 256), (12, 192), (12, 128)], integrities: &[13, 14, 2], prfs: &[], groups: &[] }];

pub(super) static OFFERS: DefaultProposals = DefaultProposals { ike: IKE, esp: ESP, ike_v1: &[], esp_v1: &[] };

//! What it offers by itself, as its peers receive it. For PFS it takes the group of the IKE SA (ipsec.conf(5)).

use super::super::{DefaultProposal, DefaultProposals};

const GROUPS: &[u16] = &[14, 15, 16, 18, 19, 20, 21, 31];
const PRFS: &[u16] = &[7, 5];

const IKE: &[DefaultProposal] = &[
    DefaultProposal { ciphers: &[(20, 256)], integrities: &[], prfs: PRFS, groups: GROUPS },
    DefaultProposal { ciphers: &[(20, 128)], integrities: &[], prfs: PRFS, groups: GROUPS },
    DefaultProposal { ciphers: &[(12, 256)], integrities: &[14, 12], prfs: PRFS, groups: GROUPS },
    DefaultProposal { ciphers: &[(12, 128)], integrities: &[14, 12], prfs: PRFS, groups: GROUPS },
];

const ESP: &[DefaultProposal] = &[
    DefaultProposal { ciphers: &[(20, 256)], integrities: &[], prfs: &[], groups: &[] },
    DefaultProposal { ciphers: &[(20, 128)], integrities: &[], prfs: &[], groups: &[] },
    DefaultProposal { ciphers: &[(12, 256)], integrities: &[14, 12], prfs: &[], groups: &[] },
    DefaultProposal { ciphers: &[(12, 128)], integrities: &[14, 12], prfs: &[], groups: &[] },
];

/// Each combination is a proposal of its own there.
const IKE_V1: &[DefaultProposal] =
    &[DefaultProposal { ciphers: &[(12, 256), (12, 128), (3, 0)], integrities: &[12, 14, 2], prfs: &[5, 7, 2], groups: &[14, 5] }];

const ESP_V1: &[DefaultProposal] = &[
    DefaultProposal { ciphers: &[(12, 128)], integrities: &[2], prfs: &[], groups: &[] },
    DefaultProposal { ciphers: &[(3, 0)], integrities: &[2], prfs: &[], groups: &[] },
];

pub(super) static OFFERS: DefaultProposals = DefaultProposals { ike: IKE, esp: ESP, ike_v1: IKE_V1, esp_v1: ESP_V1 };

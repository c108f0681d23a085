//! What a platform offers where a configuration names no proposals.

use crate::algorithm::{Kind, Transform};
use crate::gateway::{IkeVersion, Proposal, Protocol};

/// A proposal as numbers of the IANA registries; ciphers with their key length in bits.
#[derive(Debug)]
pub struct DefaultProposal {
    pub(crate) ciphers: &'static [(u16, u16)],
    pub(crate) integrities: &'static [u16],
    pub(crate) prfs: &'static [u16],
    pub(crate) groups: &'static [u16],
}

/// A platform's own proposals, as its version has them; algorithms without a name in this program's registry are left out.
#[derive(Debug)]
pub struct DefaultProposals {
    pub(crate) ike: &'static [DefaultProposal],
    pub(crate) esp: &'static [DefaultProposal],
    pub(crate) ike_v1: &'static [DefaultProposal],
    pub(crate) esp_v1: &'static [DefaultProposal],
}

impl DefaultProposals {
    /// For the IKE SA.
    pub fn ike(&self, version: IkeVersion) -> Vec<Proposal> {
        let list = if version == IkeVersion::V1 { self.ike_v1 } else { self.ike };
        list.iter().map(|offer| offer.proposal(Protocol::Ike)).collect()
    }

    /// For ESP, with sequence numbers of 32 bits.
    pub fn esp(&self, version: IkeVersion) -> Vec<Proposal> {
        let list = if version == IkeVersion::V1 { self.esp_v1 } else { self.esp };
        list.iter().map(|offer| offer.proposal(Protocol::Esp)).collect()
    }
}

impl DefaultProposal {
    fn proposal(&self, protocol: Protocol) -> Proposal {
        let ciphers = self.ciphers.iter().map(|(number, key_bits)| Transform::encryption(*number, *key_bits));
        let others = [(Kind::Integrity, self.integrities), (Kind::Prf, self.prfs), (Kind::KeyExchange, self.groups)];
        let others = others.into_iter().flat_map(|(kind, numbers)| numbers.iter().map(move |number| Transform::new(kind, *number)));
        let numbers = (protocol == Protocol::Esp).then_some(Transform::sequence_numbers(false));
        Proposal::new(protocol, ciphers.chain(others).chain(numbers))
    }
}

#[cfg(test)]
mod tests {
    use super::super::PLATFORMS;
    use super::*;

    #[test]
    fn every_number_is_in_the_registry_and_has_a_name() {
        for platform in PLATFORMS {
            let offers = platform.facts().offers;
            for version in [IkeVersion::V1, IkeVersion::V2] {
                let words: Vec<_> = offers.ike(version).iter().map(ToString::to_string).collect();
                let esp: Vec<_> = offers.esp(version).iter().map(ToString::to_string).collect();
                for text in words.iter().chain(&esp) {
                    let named =
                        text.split([' ', '|', ',']).all(|word| !word.starts_with(|c: char| c.is_ascii_digit()) || word == "3des-cbc");
                    assert!(named, "{}: {text}", platform.facts().word);
                }
            }
        }
    }
}

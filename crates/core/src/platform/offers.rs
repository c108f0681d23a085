//! What a platform offers where a configuration names no proposals.

use crate::algorithm::{Cipher, Group, Integrity, Prf};
use crate::gateway::{EspProposal, IkeProposal, IkeVersion};

/// A proposal as numbers of the IANA registries; ciphers with their key length in bits.
#[derive(Debug)]
pub struct Offer {
    pub(crate) ciphers: &'static [(u16, u16)],
    pub(crate) integrities: &'static [u16],
    pub(crate) prfs: &'static [u16],
    pub(crate) groups: &'static [u16],
}

/// A platform's own proposals, as its version has them; algorithms without a name in this program's registry are left out.
#[derive(Debug)]
pub struct Offers {
    pub(crate) ike: &'static [Offer],
    pub(crate) esp: &'static [Offer],
    pub(crate) ike_v1: &'static [Offer],
    pub(crate) esp_v1: &'static [Offer],
}

impl Offers {
    /// For the IKE SA.
    pub fn ike(&self, version: IkeVersion) -> Vec<IkeProposal> {
        let list = if version == IkeVersion::V1 { self.ike_v1 } else { self.ike };
        let each = list.iter().map(|offer| IkeProposal {
            ciphers: offer.ciphers(),
            integrities: offer.integrities.iter().copied().map(Integrity).collect(),
            prfs: offer.prfs.iter().copied().map(Prf).collect(),
            groups: offer.groups.iter().copied().map(Group).collect(),
        });
        each.collect()
    }

    /// For ESP.
    pub fn esp(&self, version: IkeVersion) -> Vec<EspProposal> {
        let list = if version == IkeVersion::V1 { self.esp_v1 } else { self.esp };
        let each = list.iter().map(|offer| EspProposal {
            ciphers: offer.ciphers(),
            integrities: offer.integrities.iter().copied().map(Integrity).collect(),
            groups: offer.groups.iter().copied().map(Group).collect(),
        });
        each.collect()
    }
}

impl Offer {
    fn ciphers(&self) -> Vec<Cipher> {
        self.ciphers.iter().map(|(number, key_bits)| Cipher { number: *number, key_bits: *key_bits }).collect()
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

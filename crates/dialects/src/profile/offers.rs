//! What a platform offers where a configuration names no proposals.

use std::borrow::Cow;

use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{IkeVersion, Proposal, Protocol};

/// A proposal as numbers of the IANA registries; ciphers with their key length in bits.
#[derive(Clone, Debug)]
pub struct DefaultProposal {
    pub(crate) ciphers: Cow<'static, [(u16, u16)]>,
    pub(crate) integrities: Cow<'static, [u16]>,
    pub(crate) prfs: Cow<'static, [u16]>,
    pub(crate) groups: Cow<'static, [u16]>,
}

/// A platform's own proposals, as its version has them; algorithms without a name in this program's registry are left out.
#[derive(Clone, Debug)]
pub struct DefaultProposals {
    pub(crate) ike: Cow<'static, [DefaultProposal]>,
    pub(crate) esp: Cow<'static, [DefaultProposal]>,
    pub(crate) ike_v1: Cow<'static, [DefaultProposal]>,
    pub(crate) esp_v1: Cow<'static, [DefaultProposal]>,
}

impl DefaultProposals {
    /// For IKE and ESP, and the same in IKEv1.
    pub(crate) const fn of(
        ike: &'static [DefaultProposal],
        esp: &'static [DefaultProposal],
        ike_v1: &'static [DefaultProposal],
        esp_v1: &'static [DefaultProposal],
    ) -> DefaultProposals {
        let [ike, esp, ike_v1, esp_v1] = [Cow::Borrowed(ike), Cow::Borrowed(esp), Cow::Borrowed(ike_v1), Cow::Borrowed(esp_v1)];
        DefaultProposals { ike, esp, ike_v1, esp_v1 }
    }

    /// For the IKE SA.
    pub fn ike(&self, version: IkeVersion) -> Vec<Proposal> {
        let list = if version == IkeVersion::V1 { &self.ike_v1 } else { &self.ike };
        list.iter().map(|offer| offer.proposal(Protocol::Ike)).collect()
    }

    /// For ESP, with sequence numbers of 32 bits.
    pub fn esp(&self, version: IkeVersion) -> Vec<Proposal> {
        let list = if version == IkeVersion::V1 { &self.esp_v1 } else { &self.esp };
        list.iter().map(|offer| offer.proposal(Protocol::Esp)).collect()
    }
}

impl DefaultProposal {
    /// Ciphers, integrity algorithms, PRFs and groups.
    pub(crate) const fn of(
        ciphers: &'static [(u16, u16)],
        integrities: &'static [u16],
        prfs: &'static [u16],
        groups: &'static [u16],
    ) -> DefaultProposal {
        DefaultProposal {
            ciphers: Cow::Borrowed(ciphers),
            integrities: Cow::Borrowed(integrities),
            prfs: Cow::Borrowed(prfs),
            groups: Cow::Borrowed(groups),
        }
    }

    fn proposal(&self, protocol: Protocol) -> Proposal {
        let ciphers = self.ciphers.iter().map(|(number, key_bits)| Transform::encryption(*number, *key_bits));
        let others = [(Kind::Integrity, &self.integrities), (Kind::Prf, &self.prfs), (Kind::KeyExchange, &self.groups)];
        let others = others.into_iter().flat_map(|(kind, numbers)| numbers.iter().map(move |number| Transform::new(kind, *number)));
        let numbers = (protocol == Protocol::Esp).then_some(Transform::sequence_numbers(false));
        Proposal::new(protocol, ciphers.chain(others).chain(numbers))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::platform::built_in;

    #[test]
    fn every_number_is_in_the_registry_and_has_a_name() {
        for profile in built_in() {
            let offers = &profile.offers;
            for version in [IkeVersion::V1, IkeVersion::V2] {
                let words: Vec<_> = offers.ike(version).iter().map(ToString::to_string).collect();
                let esp: Vec<_> = offers.esp(version).iter().map(ToString::to_string).collect();
                for text in words.iter().chain(&esp) {
                    let named =
                        text.split([' ', '|', ',']).all(|word| !word.starts_with(|c: char| c.is_ascii_digit()) || word == "3des-cbc");
                    assert!(named, "{}: {text}", profile.word);
                }
            }
        }
    }
}

//! One proposal of a description with lists of values, as the proposals that both platforms and the version of the key
//! exchange can express.

use super::Reason;
use super::proposals::Negotiator;
use uspan_dialects::profile::Sa;
use uspan_model::algorithm::{Kind, Row, Transform};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{IkeVersion, Proposal};
use uspan_model::parameter::Parameter;
use uspan_model::source::{Located, Span};

/// Which list a value stands in, for reasons and findings.
struct Offered {
    about: Parameter,
    sa: Sa,
    span: Span,
    preset: bool,
}

impl Negotiator<'_> {
    /// What becomes of a proposal: values that an end cannot do are left out of its lists, combined-mode ciphers get a proposal of their
    /// own (RFC 7296 section 3.3), and for IKEv1 each combination becomes one (RFC 2409 section 5).
    pub(super) fn alternatives(&mut self, proposal: &Located<Proposal>, sa: Sa) -> Vec<Located<Proposal>> {
        let (about, preset) = match sa {
            Sa::Ike => (Parameter::IkeProposals, self.tunnel.offer.ike_preset),
            _ => (Parameter::EspProposals, self.tunnel.offer.esp_preset),
        };
        let at = Offered { about, sa, span: proposal.span, preset };
        let value = &proposal.value;
        let ciphers = self.narrowed(value.of(Kind::Encryption), &at);
        let groups = self.narrowed(value.of(Kind::KeyExchange), &at);
        let (integrities, prfs) = self.hashes(value, &at);
        let mut all = Vec::new();
        for ciphers in one_mode(&ciphers) {
            let integrities = if ciphers[0].is_aead() { &[] } else { integrities.as_slice() };
            let lists = [ciphers.as_slice(), integrities, &prfs, &groups];
            all.push(Proposal::new(value.protocol, lists.into_iter().flatten().copied()));
        }
        self.tell_split(&all, &at);
        if self.tunnel.version.value == IkeVersion::V1 {
            all = all.iter().flat_map(each).collect();
            self.tell_expanded(all.len(), value.of(Kind::Encryption), &at);
        }
        all.into_iter().map(|value| Located::new(value, proposal.span)).collect()
    }

    /// The values of a list that both ends can do; all of them if there are none, so that the whole proposal is dropped.
    fn narrowed(&mut self, list: &[Transform], at: &Offered) -> Vec<Transform> {
        let obstacle = |talk: &Self, item: &Transform| item.row().and_then(|row| talk.obstacle(&[row], at.sa));
        if list.len() < 2 || list.iter().all(|item| obstacle(self, item).is_some()) {
            return list.to_vec();
        }
        let mut kept = Vec::new();
        for item in list {
            match obstacle(self, item) {
                None => kept.push(*item),
                Some(why) => self.drop_value(item.row(), &why, at),
            }
        }
        kept
    }

    /// Integrity algorithms and PRFs: of the same hashes where the PRF follows, because nothing else was said or an end
    /// cannot choose it.
    fn hashes(&mut self, value: &Proposal, at: &Offered) -> (Vec<Transform>, Vec<Transform>) {
        let following = |list: &[Transform]| list.iter().filter_map(|i| i.prf_of_hash()).collect::<Vec<_>>();
        let mut integrities = self.narrowed(value.of(Kind::Integrity), at);
        let mut prfs = self.narrowed(value.of(Kind::Prf), at);
        if at.sa != Sa::Ike {
            return (integrities, prfs);
        }
        let old = self.tunnel.version.value == IkeVersion::V1;
        let follows = old || value.prfs_of_hashes() == value.of(Kind::Prf) || self.follows_integrity();
        let why = if old { "IKEv1 has one hash for integrity and PRF" } else { "the PRF follows from the integrity algorithm at one end" };
        let common: Vec<_> = integrities.iter().copied().filter(|i| i.prf_of_hash().is_some_and(|prf| prfs.contains(&prf))).collect();
        if follows && !common.is_empty() && following(&integrities) != prfs {
            for prf in prfs.iter().filter(|prf| !following(&common).contains(prf)) {
                self.drop_value(prf.row(), why, at);
            }
            integrities = common;
            prfs = following(&integrities);
        }
        (integrities, prfs)
    }

    fn drop_value(&mut self, row: Option<&'static Row>, why: &str, at: &Offered) {
        let Some(row) = row else { return };
        let name = row.name;
        if !at.preset {
            // A PRF that follows from a hash is not written itself.
            let within = |value: &&Located<&'static Row>| at.span.start <= value.span.start && value.span.end <= at.span.end;
            let mut written = self.tunnel.offer.values.iter().filter(within);
            let span = written.find(|value| std::ptr::eq(value.value, row)).map_or(at.span, |value| value.span);
            let place = self.description.source.place(span);
            let message = format!("`{name}` is left out of a list for {}: {why}", at.sa.word());
            self.findings.push(Finding::new(&rules::OFFER_DROPPED, message).at(place));
        }
        self.reasons.push(Reason { about: at.about, taken: false, value: name.to_owned(), why: format!("left out of its list: {why}") });
    }

    fn tell_split(&mut self, all: &[Proposal], at: &Offered) {
        if let [one, other] = all {
            let value = format!("{one}; {other}").replace(", no pfs", "");
            let why = "combined-mode ciphers and others cannot stand in one proposal".to_owned();
            self.reasons.push(Reason { about: at.about, taken: true, value, why });
        }
    }

    fn tell_expanded(&mut self, count: usize, ciphers: &[Transform], at: &Offered) {
        if count > 1 {
            let value = format!("{count} proposals from {}", ciphers.iter().map(ToString::to_string).collect::<Vec<_>>().join("|"));
            self.reasons.push(Reason {
                about: at.about,
                taken: true,
                value,
                why: "IKEv1 has one value of each kind in a proposal".to_owned(),
            });
        }
    }
}

/// Ciphers by mode, that of the first one first.
fn one_mode(ciphers: &[Transform]) -> Vec<Vec<Transform>> {
    let first = ciphers.first().is_some_and(|cipher| cipher.is_aead());
    let (one, other): (Vec<Transform>, Vec<_>) = ciphers.iter().partition(|cipher| cipher.is_aead() == first);
    [one, other].into_iter().filter(|list| !list.is_empty()).collect()
}

/// Every combination, the first values first. Integrity and PRF are of one hash.
fn each(proposal: &Proposal) -> Vec<Proposal> {
    let (integrities, prfs, groups) = (proposal.of(Kind::Integrity), proposal.of(Kind::Prf), proposal.of(Kind::KeyExchange));
    let mut all = Vec::new();
    for cipher in proposal.of(Kind::Encryption) {
        for at in 0..integrities.len().max(prfs.len()).max(1) {
            for group in 0..groups.len().max(1) {
                let one = [Some(cipher), integrities.get(at), prfs.get(at), groups.get(group)];
                all.push(Proposal::new(proposal.protocol, one.into_iter().flatten().copied()));
            }
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::description::Description;
    use uspan_model::algorithm::named;
    use uspan_model::source::Source;

    /// What becomes of proposals in the demo, IKE and ESP, and the reasons for what was left out.
    fn mapped(platforms: [&str; 2], more: &str) -> (Vec<String>, Vec<String>, Vec<String>) {
        let text = format!(
            "unified-span = 1\n[site.a]\nplatform = \"{}\"\ngateway = {{ address = \"198.51.100.20\", outside = \"w\", inside = \"l\" }}\n\
             networks = {{ n = \"10.1.0.0/16\" }}\n[site.b]\nplatform = \"{}\"\ngateway = {{ address = \"203.0.113.77\", outside = \"w\", inside = \"l\" }}\n\
             networks = {{ n = \"10.2.0.0/16\" }}\n[tunnel.t]\nbetween = [\"a\", \"b\"]\nsecret = {{ file = \"k\" }}\n{more}\n",
            platforms[0], platforms[1]
        );
        let (description, findings) = Description::parse(&Source::new("t", text.as_str()), &uspan_dialects::context::Context::built_in());
        assert!(findings.is_empty(), "{findings:#?}");
        let (agreement, _) = super::super::agree(&description, &description.tunnels[0]);
        let agreement = agreement.expect("something in common");
        let words = |reason: &Reason| format!("{} {}", reason.about.word(), reason.value);
        let dropped = agreement.reasons.iter().filter(|reason| !reason.taken).map(words).collect();
        let all = |list: Vec<String>| list.into_iter().map(|one| one.replace(", no pfs", "")).collect();
        (agreement.ike.iter().map(ToString::to_string).collect(), all(agreement.esp.iter().map(ToString::to_string).collect()), dropped)
    }

    const LISTS: &str = "pfs = false\n\
        ike = [{ encryption = [\"aes-256-cbc\", \"aes-256-gcm\", \"aes-128-cbc\"], integrity = [\"sha2-256\", \"sha2-512\"], group = [\"ecp-384\", \"curve448\"] }]\n\
        esp = [{ encryption = [\"aes-256-gcm\", \"aes-256-cbc\"], integrity = [\"sha2-256\", \"sha2-512\"] }]";

    #[test]
    fn combined_modes_get_a_proposal_of_their_own_in_the_order_of_preference() {
        let (ike, esp, dropped) = mapped(["strongswan", "strongswan"], LISTS);
        assert_eq!(
            ike,
            [
                "aes-256-cbc|aes-128-cbc + sha2-256|sha2-512, prf sha2-256|sha2-512, group ecp-384|curve448",
                "aes-256-gcm, prf sha2-256|sha2-512, group ecp-384|curve448"
            ]
        );
        assert_eq!(esp, ["aes-256-gcm", "aes-256-cbc + sha2-256|sha2-512"]);
        assert!(dropped.is_empty());
    }

    #[test]
    fn a_value_that_one_end_cannot_do_leaves_its_list_and_not_the_proposal() {
        let (ike, esp, dropped) = mapped(["strongswan", "openiked"], LISTS);
        assert!(ike.iter().all(|proposal| proposal.ends_with("group ecp-384")), "{ike:?}");
        assert_eq!(esp, ["aes-256-cbc + sha2-512"]);
        assert_eq!(dropped, ["ike curve448", "esp aes-256-gcm", "esp sha2-256"]);
    }

    #[test]
    fn prfs_follow_where_an_end_cannot_choose_them() {
        let chosen = "ike = [{ encryption = [\"aes-256-cbc\"], integrity = [\"sha2-256\", \"sha2-512\"], prf = [\"sha2-384\", \"sha2-512\"], group = \"ecp-384\" }]";
        let (ike, _, dropped) = mapped(["libreswan", "strongswan"], chosen);
        assert_eq!(ike, ["aes-256-cbc + sha2-512, prf sha2-512, group ecp-384"]);
        assert_eq!(dropped[0], "ike sha2-384");
        let (ike, _, _) = mapped(["strongswan", "openiked"], chosen);
        assert_eq!(ike, ["aes-256-cbc + sha2-256|sha2-512, prf sha2-384|sha2-512, group ecp-384"]);
    }

    #[test]
    fn ikev1_has_a_proposal_for_each_combination() {
        let (ike, esp, dropped) = mapped(["strongswan", "libreswan"], &format!("version = \"ikev1\"\n{LISTS}"));
        let each = [
            "aes-256-cbc + sha2-256, prf sha2-256",
            "aes-256-cbc + sha2-512, prf sha2-512",
            "aes-128-cbc + sha2-256, prf sha2-256",
            "aes-128-cbc + sha2-512, prf sha2-512",
        ];
        assert_eq!(ike, each.map(|front| format!("{front}, group ecp-384")));
        assert_eq!(esp, ["aes-256-gcm", "aes-256-cbc + sha2-256", "aes-256-cbc + sha2-512"]);
        assert_eq!(dropped, ["ike aes-256-gcm", "ike curve448"]);
    }

    #[test]
    fn a_curve_for_pfs_of_ikev1_is_not_for_every_platform() {
        let old = format!("version = \"ikev1\"\n{}", LISTS.replace("pfs = false", "pfs = true"));
        assert!(mapped(["strongswan", "strongswan"], &old).1.iter().all(|esp| esp.ends_with("pfs ecp-384")));
        let (_, esp, _) = mapped(["strongswan", "libreswan"], &old.replace("ecp-384", "modp-3072"));
        assert!(esp.iter().all(|esp| esp.ends_with("pfs modp-3072")), "{esp:?}");
    }

    #[test]
    fn a_list_of_which_nothing_is_left_drops_the_proposal() {
        let lists = "ike = [{ encryption = [\"aes-128-ccm\", \"aes-256-ccm\"], prf = \"sha2-256\", group = \"ecp-256\" }, \
                     { encryption = \"aes-256-gcm\", prf = \"sha2-256\", group = \"ecp-256\" }]";
        let (ike, _, dropped) = mapped(["libreswan", "openiked"], lists);
        assert_eq!(ike, ["aes-256-gcm, prf sha2-256, group ecp-256"]);
        assert_eq!(dropped[0], "ike aes-128-ccm|aes-256-ccm, prf sha2-256, group ecp-256");
        assert_eq!(one_mode(&[named(Kind::Encryption, "aes-256-gcm")]).len(), 1);
    }
}

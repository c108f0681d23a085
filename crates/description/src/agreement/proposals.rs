//! Which of the offered proposals both platforms can do, and why the others are dropped.

use std::fmt::Write as _;

use super::Reason;
use crate::description::{Address, Description, Pfs, Site, Tunnel};
use uspan_dialects::profile::{OddKey, PfsChoice, PrfChoice, Profile, Sa};
use uspan_model::algorithm::{Kind, Row, Status, Transform};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{Encapsulation, IkeVersion, Proposal};
use uspan_model::parameter::Parameter;
use uspan_model::source::{Located, Span};

/// Every registry row that a tunnel offers, with where and for which SA.
pub(super) fn offered_rows(tunnel: &Tunnel) -> Vec<(&'static Row, Span, Sa)> {
    let mut rows = Vec::new();
    for proposal in &tunnel.offer.ike {
        let found = rows_of(&proposal.value);
        rows.extend(found.into_iter().map(|row| (row, proposal.span, Sa::Ike)));
    }
    for proposal in &tunnel.offer.esp {
        let found = rows_of(&proposal.value);
        rows.extend(found.into_iter().map(|row| (row, proposal.span, Sa::Esp)));
    }
    if let Pfs::With(group) = tunnel.pfs.value {
        rows.extend(group.row().map(|row| (row, tunnel.pfs.span, Sa::Esp)));
    }
    rows
}

fn rows_of(proposal: &Proposal) -> Vec<&'static Row> {
    proposal.transforms().iter().filter_map(|transform| transform.row()).collect()
}

pub(super) struct Negotiator<'a> {
    pub(super) description: &'a Description,
    pub(super) tunnel: &'a Tunnel,
    ends: [&'a Site; 2],
    pub(super) reasons: Vec<Reason>,
    pub(super) findings: Vec<Finding>,
}

impl<'a> Negotiator<'a> {
    pub(super) fn new(description: &'a Description, tunnel: &'a Tunnel) -> Self {
        Negotiator { description, tunnel, ends: description.ends(tunnel), reasons: Vec::new(), findings: Vec::new() }
    }

    pub(super) fn finish(self) -> (Vec<Reason>, Vec<Finding>) {
        (self.reasons, self.findings)
    }

    fn facts(&self, end: usize) -> &'a Profile {
        &self.ends[end].platform.value
    }

    /// Whether an end's platform can do an algorithm.
    fn can(&self, end: usize, row: &'static Row, sa: Sa) -> bool {
        let facts = self.facts(end);
        let old = self.tunnel.version.value == IkeVersion::V1 && sa == Sa::Esp && row.kind == Kind::KeyExchange;
        let narrowed = facts.ikev1_pfs_groups.as_ref().filter(|_| old).is_some_and(|groups| !groups.contains(&row.number));
        facts.can(Transform::of(row), sa) && !narrowed && self.beside_udp(end, row, sa).is_none()
    }

    /// What of the description lets ESP travel in UDP, where an end cannot do that with a cipher.
    fn beside_udp(&self, end: usize, row: &'static Row, sa: Sa) -> Option<&'static str> {
        if sa != Sa::Esp || !self.stays_out_of_udp(end, row) {
            return None;
        }
        match self.tunnel.encapsulation.value {
            Encapsulation::Forced => Some("`nat-traversal = \"forced\"`"),
            Encapsulation::Automatic => self.ends.iter().any(|site| site.own_address.is_some()).then_some("`own-address`"),
            Encapsulation::Off => None,
        }
    }

    /// The same as it ends a sentence.
    fn beside(&self, end: usize, row: &'static Row, sa: Sa) -> String {
        self.beside_udp(end, row, sa).map_or(String::new(), |key| format!(" beside {key}"))
    }

    fn stays_out_of_udp(&self, end: usize, row: &'static Row) -> bool {
        row.has_odd_key() && self.facts(end).behaviour.odd_key == OddKey::NotInUdp
    }

    /// Reports a cipher with which nothing arrives, if a NAT device stands before a gateway wherever it is.
    pub(super) fn warn_of_nat(&mut self, esp: &[Proposal]) {
        let wanders = self.ends.iter().find(|site| matches!(site.address.value, Address::Dynamic));
        let (Some(site), Some(cipher)) = (wanders, esp.first().and_then(|first| first.first(Kind::Encryption)?.row())) else { return };
        let Some(end) = [0, 1].into_iter().find(|end| self.stays_out_of_udp(*end, cipher)) else { return };
        if self.tunnel.encapsulation.value != Encapsulation::Automatic {
            return;
        }
        let (name, title) = (&self.ends[end].name.value, &self.facts(end).title);
        let message = format!(
            "{name} ({title}) has no ESP in UDP with `{}`, and a NAT device may stand before {}, whose address is `dynamic`",
            cipher.name, site.name.value
        );
        let span = self.tunnel.offer.esp.first().map_or(self.tunnel.name.span, |offered| offered.span);
        let place = self.description.source.place(span);
        self.findings.push(Finding::new(&rules::NOT_BEHIND_NAT, message).at(place));
    }

    /// Whether an end can do an algorithm and may.
    fn able(&self, end: usize, row: &'static Row, sa: Sa) -> bool {
        self.can(end, row, sa) && self.ends[end].allows(row.kind, row) && self.defined(row, sa)
    }

    /// Whether the version of the key exchange has a number for an algorithm, or both ends one that they agree on.
    fn defined(&self, row: &'static Row, sa: Sa) -> bool {
        // A preset takes registered ones alone, unless the other offer names what the two share.
        let said = !(self.tunnel.offer.ike_preset && self.tunnel.offer.esp_preset);
        let among_them =
            || row.kind == Kind::KeyExchange && [0, 1].iter().all(|end| self.facts(*end).unregistered_v1.contains(&row.number));
        self.tunnel.version.value == IkeVersion::V2 || row.is_in_ikev1(sa == Sa::Ike) || said && among_them()
    }

    /// Why an end cannot do a proposal made of these rows, if it cannot.
    pub(super) fn obstacle(&self, parts: &[&'static Row], sa: Sa) -> Option<String> {
        if let Some(row) = parts.iter().find(|row| !self.defined(row, sa)) {
            return Some(format!("IKEv1 has no `{}` for {}", row.name, sa.word()));
        }
        let mut obstacles = Vec::new();
        for end in [0, 1] {
            let facts = self.facts(end);
            for row in parts.iter().filter(|row| !self.able(end, row, sa)) {
                let name = &self.ends[end].name.value;
                obstacles.push(match self.can(end, row, sa) {
                    true => format!("{name} does not allow `{}`", row.name),
                    false => {
                        format!("{name} ({}) cannot do `{}` for {}{}", facts.title, row.name, sa.word(), self.beside(end, row, sa))
                    }
                });
            }
        }
        (!obstacles.is_empty()).then(|| obstacles.join("; "))
    }

    /// Whether an end cannot choose the PRF.
    pub(super) fn follows_integrity(&self) -> bool {
        [0, 1].into_iter().any(|end| self.facts(end).prf == PrfChoice::OfIntegrity)
    }

    fn prf_obstacle(&self, proposal: &Proposal) -> Option<String> {
        if proposal.of(Kind::Integrity).is_empty() || proposal.prfs_of_hashes() == proposal.of(Kind::Prf) {
            return None;
        }
        if self.tunnel.version.value == IkeVersion::V1 {
            return Some("IKEv1 has one hash for integrity and PRF".to_owned());
        }
        let end = [0, 1].into_iter().find(|end| self.facts(*end).prf == PrfChoice::OfIntegrity)?;
        Some(format!(
            "{} ({}) cannot choose a PRF that differs from the integrity algorithm",
            self.ends[end].name.value,
            self.facts(end).title
        ))
    }

    pub(super) fn ike(&mut self) -> Vec<Proposal> {
        let offer = &self.tunnel.offer;
        let mut agreed: Vec<Proposal> = Vec::new();
        for proposal in &offer.ike {
            let parts = rows_of(&proposal.value);
            if self.misplaced(&parts, proposal.span, Sa::Ike) {
                continue;
            }
            for proposal in self.alternatives(proposal, Sa::Ike) {
                let parts = rows_of(&proposal.value);
                let first = agreed.first().map(|first| first.of(Kind::KeyExchange));
                let obstacle = self.obstacle(&parts, Sa::Ike).or_else(|| self.prf_obstacle(&proposal.value)).or_else(|| {
                    // The first message carries the key exchange already (RFC 2409 section 5.4).
                    let other =
                        self.tunnel.aggressive.is_some() && first.is_some_and(|groups| groups != proposal.value.of(Kind::KeyExchange));
                    other.then(|| "aggressive mode has one group for all proposals".to_owned())
                });
                self.weigh(Parameter::IkeProposals, &proposal, obstacle, offer.ike_preset, &mut agreed);
            }
        }
        if agreed.is_empty() {
            let first = offer.ike.first().map(|p| rows_of(&p.value)).unwrap_or_default();
            self.nothing_left(&first, offer.ike.first().map_or(self.tunnel.name.span, |p| p.span), Sa::Ike);
        }
        agreed
    }

    pub(super) fn esp(&mut self, pfs: Option<Transform>) -> Vec<Proposal> {
        let offer = &self.tunnel.offer;
        let mut agreed: Vec<Proposal> = Vec::new();
        for proposal in &offer.esp {
            let parts = rows_of(&proposal.value);
            if self.misplaced(&parts, proposal.span, Sa::Esp) {
                continue;
            }
            for proposal in self.alternatives(proposal, Sa::Esp) {
                let obstacle = self.obstacle(&rows_of(&proposal.value), Sa::Esp);
                self.weigh(Parameter::EspProposals, &proposal, obstacle, offer.esp_preset, &mut agreed);
            }
        }
        if agreed.is_empty() {
            let first = offer.esp.first().map(|p| rows_of(&p.value)).unwrap_or_default();
            self.nothing_left(&first, offer.esp.first().map_or(self.tunnel.name.span, |p| p.span), Sa::Esp);
        }
        if let Some(row) = pfs.and_then(Transform::row)
            && self.obstacle(&[row], Sa::Esp).is_some()
        {
            self.nothing_left(&[row], self.tunnel.pfs.span, Sa::Esp);
            agreed.clear();
        }
        for proposal in &mut agreed {
            let numbers = Transform::sequence_numbers(self.tunnel.extended_sequence.is_some());
            proposal.set(Kind::KeyExchange, pfs);
            proposal.set(Kind::SequenceNumbers, [numbers]);
        }
        agreed
    }

    /// Reports a PFS group that an end will not use, because it knows only the one of the IKE SA.
    pub(super) fn bound_group(&mut self, pfs: Option<Transform>, ike: &[Proposal]) {
        let bound = [0, 1].into_iter().find(|end| self.facts(*end).pfs == PfsChoice::OfIke);
        let first = ike.first().and_then(|proposal| proposal.first(Kind::KeyExchange));
        if let (Some(end), Some(wanted), Some(of_ike)) = (bound, pfs, first)
            && wanted != of_ike
            // What is weak without an allowance, or what an end cannot do at all, is said elsewhere.
            && wanted.row().is_some_and(|row| {
                (row.weak.is_empty() || self.tunnel.allowance(row).is_some()) && self.obstacle(&[row], Sa::Esp).is_none()
            })
        {
            let (name, title) = (&self.ends[end].name.value, &self.facts(end).title);
            let message = format!("{name} ({title}) rekeys ESP only with the group of the IKE SA, `{of_ike}`, not with `{wanted}`");
            let remedy =
                format!("Write `pfs = true`, which takes `{of_ike}`; or make `{wanted}` the group of the first IKE proposal as well.");
            let place = self.description.source.place(self.tunnel.pfs.span);
            self.findings.push(Finding::new(&rules::PFS_GROUP_BOUND, message).at(place).remedy(remedy));
        }
    }

    /// Takes or drops a proposal and notes the reason.
    fn weigh(
        &mut self,
        about: Parameter,
        proposal: &Located<Proposal>,
        obstacle: Option<String>,
        preset: bool,
        agreed: &mut Vec<Proposal>,
    ) {
        let mut value = String::with_capacity(96);
        let _ = write!(value, "{}", proposal.value);
        value.truncate(value.trim_end_matches(", no pfs").len());
        let place = self.description.source.place(proposal.span);
        let (taken, why) = match obstacle {
            Some(obstacle) => {
                if !preset {
                    self.findings.push(Finding::new(&rules::OFFER_DROPPED, format!("`{value}` is dropped: {obstacle}")).at(place));
                }
                (false, format!("dropped: {obstacle}"))
            }
            None if agreed.contains(&proposal.value) => {
                self.findings.push(Finding::new(&rules::SAME_PROPOSAL, format!("`{value}` is offered already")).at(place));
                (false, "dropped: offered already".to_owned())
            }
            None => {
                agreed.push(proposal.value.clone());
                (
                    true,
                    match agreed.len() {
                        1 => "first choice of both".to_owned(),
                        n => format!("choice {n}, both can do it"),
                    },
                )
            }
        };
        self.reasons.push(Reason { about, taken, value, why });
    }

    /// Reports algorithms that the registry does not define for this SA.
    fn misplaced(&mut self, parts: &[&'static Row], span: Span, sa: Sa) -> bool {
        let before = self.findings.len();
        for row in parts {
            let status = if sa == Sa::Ike { row.ike } else { row.esp };
            if status == Status::Undefined && row.weak.is_empty() {
                let place = self.description.source.place(span);
                self.findings
                    .push(Finding::new(&rules::NOT_FOR_THIS_SA, format!("`{}` is not defined for {}", row.name, sa.word())).at(place));
            }
        }
        self.findings.len() > before
    }

    fn nothing_left(&mut self, first: &[&'static Row], span: Span, sa: Sa) {
        // A misplaced algorithm has been reported; and what was dropped one by one is said at once here.
        self.findings.retain(|finding| finding.rule.code != rules::OFFER_DROPPED.code);
        if self.findings.iter().any(|finding| finding.rule.code == rules::NOT_FOR_THIS_SA.code) {
            return;
        }
        let mut message = format!("no {} proposal is left that both ends can do", sa.word());
        let mut hints = Vec::new();
        for row in first {
            let lacking = [0, 1].into_iter().find(|end| !self.able(*end, row, sa));
            if let Some(end) = lacking {
                let why = match (self.defined(row, sa), self.can(end, row, sa)) {
                    (false, _) => "cannot do with IKEv1",
                    (true, true) => "does not allow",
                    (true, false) => "cannot do",
                };
                message.push_str(&format!("; {} {why} `{}`{}", self.ends[end].name.value, row.name, self.beside(end, row, sa)));
                if let Some(near) = self.nearest(row, sa) {
                    hints.push(format!("instead of `{}` the nearest that both can do is `{}`", row.name, near.name));
                }
            }
        }
        let mut sides = Vec::new();
        for end in [0, 1] {
            sides.push(format!("{} can do {}", self.ends[end].name.value, self.possibilities(end, first, sa)));
        }
        let hints = if hints.is_empty() { String::new() } else { format!("{}. ", capital(&hints.join("; "))) };
        let place = self.description.source.place(span);
        self.findings
            .push(Finding::new(&rules::NOTHING_IN_COMMON, message).at(place).remedy(format!("{hints}{}.", capital(&sides.join("; ")))));
    }

    /// What an end can do of the kinds in question, without what is weak.
    fn possibilities(&self, end: usize, first: &[&'static Row], sa: Sa) -> String {
        let mut kinds: Vec<_> = first.iter().filter(|row| !self.both(row, sa)).map(|row| row.kind).collect();
        kinds.sort_unstable();
        kinds.dedup();
        let names = kinds.iter().map(|kind| {
            let rows = kind.rows().iter().filter(|row| row.weak.is_empty() && self.able(end, row, sa));
            format!("{}: {}", kind.word(), rows.map(|row| row.name).collect::<Vec<_>>().join(", "))
        });
        names.collect::<Vec<_>>().join("; ")
    }

    fn both(&self, row: &'static Row, sa: Sa) -> bool {
        self.able(0, row, sa) && self.able(1, row, sa)
    }

    /// The sound algorithm nearest in mode, strength and number that both ends can do.
    fn nearest(&self, wanted: &'static Row, sa: Sa) -> Option<&'static Row> {
        let rows = wanted.kind.rows().iter().filter(|row| row.weak.is_empty() && !row.name.is_empty() && self.both(row, sa));
        // Of the same mode, not weaker, then as near in strength as can be, then as the RFCs rank it.
        rows.min_by_key(|row| {
            let rank = if sa == Sa::Ike { row.ike.rank() } else { row.esp.rank() };
            (row.aead != wanted.aead, row.strength < wanted.strength, row.strength.abs_diff(wanted.strength), rank, row.number)
        })
    }
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |first| first.to_uppercase().chain(chars).collect())
}

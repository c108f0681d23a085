//! IKEv1 (RFC 2409; RFC 2407 for what IDs and SAs mean in ESP).

use super::message::{ExchangeType, MessageDraft, Notify};
use super::proof::Disbelief;
use super::v2::{KeySource, first_group, key, offered, with_key};
use super::{Cause, Play, Stage};
use crate::fits::proposals::{Suite, choose, differing, nearest_two};
use crate::fits::selectors::{Wanted, answer};
use uspan_dialects::profile::{Line, LongNumbersV1, MainModeSecret, OfferV1, PfsGroup, ToStrangers, UnsaidProposalsV1};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::duration::duration_words;
use uspan_model::gateway::{Child, Connection, Exchange, IkeVersion, Method, Origin, Proposal, listed};
use uspan_model::parameter::Parameter;

/// Main mode and aggressive mode.
const PHASE_ONE: &str = "RFC 2409 section 5";
/// Quick mode.
const QUICK: &str = "RFC 2409 section 5.5";
/// Notifications.
const NOTIFY: &str = "RFC 2408 section 3.14";

impl<'a> Play<'a> {
    pub(super) fn ikev1(&mut self) {
        let answering = if self.initiating().ike().exchange.value == Exchange::V1Aggressive { self.aggressive() } else { self.main() };
        let Some(answering) = answering else { return };
        for child in &self.initiating().children {
            if self.asks_for_nothing(child) {
                return;
            }
            self.quick(child, answering);
        }
        self.rekeys_v1(answering);
        self.left_over(answering);
        self.forgotten();
        self.not_reopened();
    }

    /// The first message, and what comes of it: the connection that answers, and what was chosen.
    fn open_v1(&mut self, exchange: ExchangeType, source: &'static str, with_identity: bool) -> Option<(&'a Connection, Suite)> {
        let (initiator, responder) = (self.initiator, self.responder());
        let initiating = self.initiating();
        let mut offer = initiating.ike().proposals.value.clone();
        if self.behaviour(initiator).offer_v1 == OfferV1::FirstValues {
            offer = offer.iter().map(Proposal::firsts).collect();
        }
        let offer = &offer;
        let unheard = self.unheard();
        let mut first = self.old(initiator, exchange, source).with("SA", || {
            format!(
                "{}, {}, {}",
                offered(offer),
                initiating.ike().local_method.value.words(),
                duration_words(initiating.ike().lifetime.value.hard)
            )
        });
        if with_identity {
            let group = first_group(offer);
            first = first.with("KE", || key(group)).plain("Ni").with("IDii", || self.shown(initiator, initiating).words());
        }
        self.say(first.arriving(unheard.is_none()));
        if self.silence(unheard) {
            return None;
        }
        let hearing = self.hearing();
        let fits = |connection: &&Connection| connection.ike().exchange.value == initiating.ike().exchange.value;
        let able: Vec<_> = hearing.iter().copied().filter(fits).collect();
        if able.is_empty() {
            self.nobody_meant(&hearing);
            return None;
        }
        // The way of proving it is part of a proposal.
        let same_proof = |connection: &&Connection| {
            connection.ike().remote_method.value == initiating.ike().local_method.value
                && connection.ike().local_method.value == initiating.ike().remote_method.value
        };
        let preference = self.behaviour(responder).preference.value;
        let chosen = able.iter().copied().filter(same_proof).find_map(|connection| {
            let any = self.behaviour(responder).unsaid_proposals_v1 == UnsaidProposalsV1::Anything
                && connection.ike().proposals.origin == Origin::Default;
            let own = if any { offer.as_slice() } else { connection.ike().proposals.value.as_slice() };
            Some((connection, choose(offer, own, preference)?))
        });
        if chosen.is_none() {
            let proves = able.iter().any(same_proof);
            self.unfit_v1(offer, proves);
        }
        chosen
    }

    /// Neither the proposals nor, if it does not prove itself as the responder wants, the ways of proving fit.
    fn unfit_v1(&mut self, offer: &[Proposal], proves: bool) {
        let (initiator, responder) = (self.initiator, self.responder());
        let initiating = self.initiating();
        // Some do not answer what no connection of theirs could be about.
        let silent = !proves && self.behaviour(responder).strangers == ToStrangers::RefusesInV2;
        if !silent {
            self.refuse_v1(responder, Notify::V1_NO_PROPOSAL);
        }
        let told = [Some(if silent { Line::Unanswered } else { Line::RefusedAtOnce }), Some(Line::NoIkeProposal)];
        let responding = self.responding();
        if proves {
            let apart = nearest_two([self.name(initiator), self.name(responder)], offer, &responding.ike().proposals.value);
            let cures = vec![
                self.cure(initiator, &initiating.ike().proposals, "offer what the other end has"),
                self.cure(responder, &responding.ike().proposals, "or take what is offered"),
            ];
            self.fail(
                (Stage::IkeSa, vec![Parameter::IkeProposals.into()]),
                format!("No IKE proposal of the one fits one of the other.{apart}"),
                told,
                cures,
            );
        } else {
            let (has, wants) = (initiating.ike().local_method.value.words(), responding.ike().remote_method.value.words());
            let reason = format!("{} offers {has}, {} wants {wants}.", self.name(initiator), self.name(responder));
            let cures = vec![
                self.cure(responder, &responding.ike().remote_method, format!("expect {has}")),
                self.cure(initiator, &initiating.ike().local_method, format!("or use {wants}")),
            ];
            let apart = [(initiator, responder), (responder, initiator)].into_iter().filter(|(shows, judges)| {
                let [shows, judges] = [*shows, *judges].map(|end| if end == initiator { initiating } else { responding });
                shows.ike().local_method.value != judges.ike().remote_method.value
            });
            let causes = apart.map(|(shows, _)| Cause::at(Parameter::Authentication, shows)).collect();
            self.fail((if silent { Stage::Answer } else { Stage::IkeSa }, causes), reason, told, cures);
        }
    }

    pub(super) fn refuse_v1(&mut self, end: usize, notify: Notify) {
        self.say(self.old(end, ExchangeType::Informational, NOTIFY).refusing(notify));
    }

    /// Main mode: proposals, keys, and under their protection identities and proofs.
    fn main(&mut self) -> Option<&'a Connection> {
        let (initiator, responder) = (self.initiator, self.responder());
        let initiating = self.initiating();
        let (first, suite) = self.open_v1(ExchangeType::MainMode, PHASE_ONE, false)?;
        self.group = suite.group();
        self.say(self.old(responder, ExchangeType::MainMode, PHASE_ONE).with("SA", || suite.to_string()));
        if !self.can_prove(initiator, initiating) {
            return None;
        }
        self.say(self.old(initiator, ExchangeType::MainMode, PHASE_ONE).with("KE", || key(suite.group())).plain("Ni"));
        self.say(self.old(responder, ExchangeType::MainMode, PHASE_ONE).with("KE", || key(suite.group())).plain("Nr"));
        self.say(
            self.old(initiator, ExchangeType::MainMode, PHASE_ONE)
                .with("IDii", || self.shown(initiator, initiating).words())
                .with(proof_name(initiating), || initiating.ike().local_method.value.words()),
        );
        // The keys that protect identities already depend on the secret: with another one they cannot be read.
        let looked_up = match self.behaviour(responder).main_mode_secret.value {
            MainModeSecret::OfAddress => first,
            MainModeSecret::OfFirstConnection => {
                let by_secret = |connection: &&Connection| {
                    connection.version() == IkeVersion::V1 && connection.ike().local_method.value == Method::SharedSecret
                };
                self.hearing().into_iter().find(by_secret).unwrap_or(first)
            }
        };
        let secrets = [(initiator, initiating), (responder, looked_up)].map(|(end, connection)| self.secret(end, connection));
        if initiating.ike().local_method.value == Method::SharedSecret
            && secrets[0] != secrets[1]
            && let Some((_, cures)) = self.unequal_secrets()
        {
            self.refuse_v1(responder, Notify::V1_MALFORMED);
            let reason = format!("{} cannot read the message: the secrets of the two ends are not the same bytes.", self.name(responder));
            self.fail(
                (Stage::Authentication, vec![Parameter::SharedSecret.into()]),
                reason,
                [Some(Line::Unanswered), Some(Line::ProofWrong)],
                cures,
            );
            return None;
        }
        let answering = self.known_v1()?;
        self.say(
            self.old(responder, ExchangeType::MainMode, PHASE_ONE)
                .with("IDir", || self.shown(responder, answering).words())
                .with(proof_name(answering), || answering.ike().local_method.value.words()),
        );
        self.believed_v1(answering)
    }

    /// Aggressive mode: everything in three messages, identities in clear.
    fn aggressive(&mut self) -> Option<&'a Connection> {
        let (initiator, responder) = (self.initiator, self.responder());
        let initiating = self.initiating();
        let (_, suite) = self.open_v1(ExchangeType::AggressiveMode, PHASE_ONE, true)?;
        self.group = suite.group();
        let answering = self.known_v1()?;
        self.say(
            self.old(responder, ExchangeType::AggressiveMode, PHASE_ONE)
                .with("SA", || suite.to_string())
                .with("KE", || key(suite.group()))
                .plain("Nr")
                .with("IDir", || self.shown(responder, answering).words())
                .with(proof_name(answering), || answering.ike().local_method.value.words()),
        );
        if !self.can_prove(initiator, initiating) {
            return None;
        }
        let answering = self.believed_v1(answering)?;
        self.say(
            self.old(initiator, ExchangeType::AggressiveMode, PHASE_ONE)
                .with(proof_name(initiating), || initiating.ike().local_method.value.words()),
        );
        Some(answering)
    }

    /// The connection for the identity of the initiator.
    fn known_v1(&mut self) -> Option<&'a Connection> {
        let (initiator, responder) = (self.initiator, self.responder());
        let initiating = self.initiating();
        let able: Vec<_> = self.hearing().into_iter().filter(|connection| connection.version() == IkeVersion::V1).collect();
        // What is asked for is not said in IKEv1: the initiator finds out.
        let known = able.iter().copied().find(|connection| self.is_taken(initiator, initiating, connection));
        let Some(answering) = known else {
            self.refuse_v1(responder, Notify::V1_INVALID_ID);
            self.stranger(Stage::Authentication);
            return None;
        };
        if let Some(Disbelief { cause, reason, cures }) = self.disbelief(initiator, initiating, answering) {
            self.refuse_v1(responder, Notify::V1_AUTHENTICATION);
            self.fail((Stage::Authentication, vec![cause]), reason, [Some(Line::NotBelieved), Some(Line::ProofWrong)], cures);
            return None;
        }
        Some(answering)
    }

    /// What the initiator makes of the answer.
    fn believed_v1(&mut self, answering: &'a Connection) -> Option<&'a Connection> {
        let (initiator, responder) = (self.initiator, self.responder());
        let Some(Disbelief { cause, reason, cures }) = self.disbelief(responder, answering, self.initiating()) else {
            let peer = self.name(responder);
            self.think(initiator, || format!("believes {peer}: the IKE SA is there"));
            return Some(answering);
        };
        self.refuse_v1(initiator, Notify::V1_INVALID_ID);
        self.fail((Stage::Authentication, vec![cause]), reason, [Some(Line::PeerIsAnother), None], cures);
        None
    }

    /// Quick mode: a pair of SAs for ESP; the third message only says that the second one arrived.
    fn quick(&mut self, asked: &'a Child, answering: &'a Connection) {
        let (initiator, responder) = (self.initiator, self.responder());
        let wanted = Wanted::by_initiator(asked);
        self.ask_v1(initiator, asked, &wanted);
        let narrowing = self.behaviour(responder).narrowing.value;
        let fits = |child: &&Child| answer(narrowing, &wanted, &Wanted::by_responder(child)).is_some();
        let exact = answering.children.iter().find(|child| Wanted::by_responder(child).same(&wanted));
        let Some(own) = exact.or_else(|| answering.children.iter().find(fits)) else {
            self.refuse_v1(responder, Notify::V1_INVALID_ID);
            self.unfit_selectors(asked, answering, [Some(Line::SelectorsRefused), Some(Line::NoSelectors)]);
            return;
        };
        let Some(suite) = self.agreed_v1(initiator, asked, own) else {
            self.refuse_v1(responder, Notify::V1_NO_PROPOSAL);
            self.unfit_esp(asked, own, true, Stage::ChildSa);
            self.offers_too_little(initiator, asked, own);
            return;
        };
        self.reply_v1(responder, &suite, &wanted);
        // There is no narrowing: what was asked for is what both take, or each its own part of it.
        let answered = answer(narrowing, &wanted, &Wanted::by_responder(own)).unwrap_or_else(|| wanted.clone());
        self.opened(asked, own, &wanted, &answered, &suite);
    }

    /// In transport mode some ask for the two gateways alone; where that leaves nothing, they give up the IKE SA and all with it.
    fn asks_for_nothing(&mut self, child: &Child) -> bool {
        let initiator = self.initiator;
        let wanted = self.between_hosts(initiator, child, Wanted::by_initiator(child));
        let nothing = wanted.near.is_empty() || wanted.far.is_empty();
        if nothing {
            let reason = format!(
                "{} asks for transport mode, in which it leaves out networks that are not the two gateways themselves: nothing is left, and it gives up.",
                self.name(initiator)
            );
            let (cause, cures) = self.nothing_to_ask(child);
            self.fail((Stage::ChildSa, vec![cause]), reason, [Some(Line::NothingToAsk), None], cures).child = Some(child.name.clone());
            self.rehearsal.opened.clear();
        }
        nothing
    }

    /// The first message of a quick mode.
    fn ask_v1(&mut self, from: usize, asked: &Child, wanted: &Wanted) {
        let offer = self.offer_v1(from, asked, KeySource::Own);
        let request = self.old(from, ExchangeType::QuickMode, QUICK).with("SA", || offered(&offer)).plain("Ni");
        self.say(identities(with_key(request, first_group(&offer)), wanted));
    }

    /// The second message of a quick mode, and the third.
    fn reply_v1(&mut self, from: usize, suite: &Suite, wanted: &Wanted) {
        let reply = self.old(from, ExchangeType::QuickMode, QUICK).with("SA", || suite.to_string()).plain("Nr");
        self.say(identities(with_key(reply, suite.group()), wanted));
        self.say(self.old(1 - from, ExchangeType::QuickMode, QUICK).plain("HASH"));
    }

    /// An end's proposals for ESP in a quick mode.
    fn esp_v1(&self, end: usize, child: &Child, keys: KeySource) -> Vec<Proposal> {
        let list = self.esp(end, child, keys);
        match self.behaviour(end).long_numbers_v1 == LongNumbersV1::Never {
            true => list.iter().map(|one| one.with(Kind::SequenceNumbers, [Transform::sequence_numbers(false)])).collect(),
            false => list,
        }
    }

    /// What an end offers in a quick mode.
    fn offer_v1(&self, from: usize, asked: &Child, keys: KeySource) -> Vec<Proposal> {
        let mut offer = self.esp_v1(from, asked, keys);
        if self.behaviour(from).offer_v1 == OfferV1::FirstValues {
            offer = offer.iter().map(Proposal::firsts).collect();
        }
        offer
    }

    /// What the peer of the one that asks chooses of its offer.
    fn agreed_v1(&self, from: usize, asked: &Child, own: &Child) -> Option<Suite> {
        let to = 1 - from;
        // The group may be free to choose.
        let keys = if self.behaviour(to).pfs_group == PfsGroup::OfIke { KeySource::OfIke } else { KeySource::Own };
        let chosen = self.chosen(to, &self.offer_v1(from, asked, keys), &self.esp_v1(to, own, keys))?;
        let group = chosen.group().or_else(|| first_group(&self.offer_v1(from, asked, KeySource::Own)));
        Some(chosen.with_group(group))
    }

    /// The last failure is of an offer of this end: where all that it has would fit, but not what it can offer of it in IKEv1.
    fn offers_too_little(&mut self, from: usize, asked: &Child, own: &Child) {
        let whole = [self.esp_v1(from, asked, KeySource::Own), self.esp_v1(1 - from, own, KeySource::Own)];
        if self.behaviour(from).offer_v1 != OfferV1::FirstValues || self.chosen(1 - from, &whole[0], &whole[1]).is_none() {
            return;
        }
        let offer = self.offer_v1(from, asked, KeySource::Own);
        let reason = format!(
            "{} offers only the first value of each kind in IKEv1: {}. {} takes none of that.",
            self.name(from),
            offered(&offer),
            self.name(1 - from)
        );
        let cure = self.cure(from, &asked.esp, "name the proposal that the other end has");
        let kinds = offer.iter().flat_map(|one| whole[1].iter().map(|other| differing(one, other))).min_by_key(Vec::len);
        let apart = match kinds.as_deref() {
            Some([Kind::SequenceNumbers]) => Parameter::SequenceNumbers,
            Some([Kind::KeyExchange]) => Parameter::Pfs,
            _ => Parameter::EspProposals,
        };
        if let Some(failure) = self.rehearsal.failures.last_mut() {
            failure.causes.iter_mut().for_each(|cause| cause.parameter = apart);
            failure.reason = reason;
            failure.cures = vec![cure];
        }
    }

    /// New keys are another quick mode, of the end whose time is up first; lives are spread at random, so that it can be either.
    fn rekeys_v1(&mut self, answering: &'a Connection) {
        for opened in self.rehearsal.opened.clone() {
            let by_name = |connection: &'a Connection, end: usize| connection.children.iter().find(|child| child.name == opened.names[end]);
            let (Some(asked), Some(own)) = (by_name(self.initiating(), self.initiator), by_name(answering, self.responder())) else {
                continue;
            };
            let lives = [asked.lifetime.value.soft(), own.lifetime.value.soft()];
            let mut turns = [(self.initiator, asked, own), (self.responder(), own, asked)];
            if lives[1] < lives[0] {
                turns.reverse();
            }
            let fails = turns.iter().position(|(from, near, far)| self.agreed_v1(*from, near, far).is_none());
            let (from, near, far) = turns[fails.unwrap_or(0)];
            let first = if fails == Some(1) { "the other end can be the first to ask as well; " } else { "" };
            self.think(from, || format!("{first}{}: new keys after at most {}", near.name, duration_words(lives[0].min(lives[1]))));
            let wanted = Wanted::by_initiator(near);
            self.ask_v1(from, near, &wanted);
            match self.agreed_v1(from, near, far) {
                Some(suite) => self.reply_v1(1 - from, &suite, &wanted),
                None => {
                    self.refuse_v1(1 - from, Notify::V1_NO_PROPOSAL);
                    self.unfit_esp(asked, own, true, Stage::RekeyChild);
                    self.swap_logs(from, [Line::RekeyRefused, Line::NoRekeyProposal]);
                    self.offers_too_little(from, near, far);
                }
            }
        }
    }
}

/// The payload that proves who sends it.
fn proof_name(connection: &Connection) -> &'static str {
    if connection.ike().local_method.value == Method::SharedSecret { "HASH" } else { "SIG" }
}

/// The networks, as identities of those on whose behalf it is negotiated.
fn identities(message: MessageDraft, wanted: &Wanted) -> MessageDraft {
    message.with("IDci", || listed(&wanted.near)).with("IDcr", || listed(&wanted.far))
}

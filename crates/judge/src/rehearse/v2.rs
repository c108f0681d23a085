//! IKEv2 (RFC 7296).

use ipnet::IpNet;

use super::ends::EndAddresses;
use super::message::{ExchangeType, MessageDraft, Notify};
use super::proof::Disbelief;
use super::{OpenedChild, Play, Stage, child_name};
use crate::fits::proposals::{Suite, choose, nearest_two};
use crate::fits::selectors::{Wanted, answer, taken};
use uspan_dialects::profile::{Answering, AskedIdentity, FurtherChild, Line, Narrowing, PfsGroup, Refusal, TransportMode, WithIkeSa};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::duration::duration_words;
use uspan_model::gateway::{Child, Connection, Identity, IkeVersion, Mode, Origin, Proposal, listed};
use uspan_model::parameter::Parameter;

impl<'a> Play<'a> {
    pub(super) fn ikev2(&mut self) {
        let Some(suite) = self.init() else { return };
        self.group = suite.group();
        let Some(answering) = self.auth() else { return };
        let mut id = 2;
        for child in self.in_turn().skip(1) {
            self.another(child, answering, &mut id);
        }
        self.rekeys(answering, &mut id);
        self.left_over(answering);
        // What was agreed on once is agreed on again: the proposals are the same.
        if !self.rehearsal.opened.is_empty() {
            self.new_ike(&suite, id);
        }
        self.forgotten();
        self.not_reopened();
    }

    /// The Child SAs in the order in which they are asked for.
    fn in_turn(&self) -> impl Iterator<Item = &'a Child> + use<'a> {
        let children = &self.initiating().children;
        let at_once = children.iter().all(|child| child.opening.value.start);
        let last = children.len().checked_sub(1).filter(|_| at_once && self.behaviour(self.initiator).with_ike_sa == WithIkeSa::Last);
        let first = last.unwrap_or(0);
        children.get(first).into_iter().chain(children.iter().enumerate().filter(move |(i, _)| *i != first).map(|(_, child)| child))
    }

    /// IKE_SA_INIT: what is chosen, and the connections that can still respond.
    fn init(&mut self) -> Option<Suite> {
        let (initiator, responder) = (self.initiator, self.responder());
        let initiating = self.initiating();
        let offer = &initiating.ike().proposals.value;
        let guess = offer.first().and_then(|proposal| proposal.first(Kind::KeyExchange));
        let unheard = self.unheard();
        let request = self.first_message(offer, guess, unheard.is_none());
        self.say(request);
        if self.silence(unheard) {
            return None;
        }
        let hearing = self.hearing();
        let able: Vec<_> = hearing.iter().copied().filter(|connection| connection.version() == IkeVersion::V2).collect();
        if able.is_empty() {
            self.nobody_meant(&hearing);
            return None;
        }
        let nat = self.translated(initiator) || self.translated(responder);
        if nat {
            self.think(responder, || "finds a NAT device between the two: from here on over UDP 4500");
        }
        let preference = self.behaviour(responder).preference.value;
        let chosen = able.iter().find_map(|connection| choose(offer, &connection.ike().proposals.value, preference));
        let Some(suite) = chosen else {
            self.refuse(ExchangeType::IkeSaInit, 0, Notify::NO_PROPOSAL_CHOSEN, "RFC 7296 section 2.7");
            let apart = nearest_two([self.name(initiator), self.name(responder)], offer, &self.responding().ike().proposals.value);
            let cures = vec![
                self.cure(initiator, &initiating.ike().proposals, "offer what the other end has"),
                self.cure(responder, &self.responding().ike().proposals, "or take what is offered"),
            ];
            let told = [Some(Line::RefusedAtOnce), Some(Line::NoIkeProposal)];
            self.fail(
                (Stage::IkeSa, vec![Parameter::IkeProposals.into()]),
                format!("No IKE proposal of the one fits one of the other.{apart}"),
                told,
                cures,
            );
            return None;
        };
        if suite.group() != guess
            && let Some(group) = suite.group()
        {
            let refusal = self.reply(responder, ExchangeType::IkeSaInit, 0, "RFC 7296 section 1.2");
            self.say(refusal.refusing_with(Notify::INVALID_KE_PAYLOAD, || format!("group {group}")));
            self.think(initiator, || format!("tries again with a key of group {group}"));
            let again = self.first_message(offer, Some(group), true);
            self.say(again);
        }
        let reply = self.reply(responder, ExchangeType::IkeSaInit, 0, "RFC 7296 section 1.2");
        self.say(reply.with("SA", || suite.to_string()).with("KE", || key(suite.group())).plain("Nr").plain("N(NAT_DETECTION_…)"));
        Some(suite)
    }

    fn first_message(&self, offer: &[Proposal], group: Option<Transform>, arrives: bool) -> MessageDraft {
        let message = self.request(self.initiator, ExchangeType::IkeSaInit, 0, "RFC 7296 section 1.2");
        let message = message.with("SA", || offered(offer)).with("KE", || key(group));
        message.plain("Ni").plain("N(NAT_DETECTION_…)").arriving(arrives)
    }

    /// The refusal of a request.
    pub(super) fn refuse(&mut self, exchange: ExchangeType, id: u32, notify: Notify, source: &'static str) {
        let reply = self.reply(self.responder(), exchange, id, source);
        self.say(reply.refusing(notify));
    }

    /// IKE_AUTH with the first Child SA: the connection that answers.
    fn auth(&mut self) -> Option<&'a Connection> {
        let (initiator, responder) = (self.initiator, self.responder());
        let initiating = self.initiating();
        if !self.can_prove(initiator, initiating) {
            return None;
        }
        let first = self.in_turn().next()?;
        let mut request = self
            .request(initiator, ExchangeType::IkeAuth, 1, "RFC 7296 section 1.2")
            .with("IDi", || self.shown(initiator, initiating).words());
        let asked = self.asked_identity();
        if let Some(asked) = asked {
            request = request.with("IDr", || asked.words());
        }
        request = request.with("AUTH", || initiating.ike().local_method.value.words());
        request = child_payloads(request, &without_groups(&first.esp.value), first);
        self.say(request);
        let source = "RFC 7296 section 2.21.2";
        let able = self.hearing().into_iter().filter(|connection| connection.version() == IkeVersion::V2);
        let known = |connection: &&Connection| {
            // Who does not say who it is does not look for it either.
            let own = self.shown(responder, connection);
            let asked = asked.is_none_or(|asked| asked.takes(&own)) || matches!(own, Identity::Implied(_));
            self.is_taken(initiator, initiating, connection)
                && (asked || self.behaviour(responder).asked_identity == AskedIdentity::Ignored)
        };
        let known: Vec<_> = able.into_iter().filter(known).collect();
        let known = self.of_issuer(initiating, known);
        // Who is not asked for transport mode takes tunnel mode.
        let tunnel = first.mode.value == Mode::Tunnel;
        let mode = |connection: &&Connection| tunnel || connection.children.iter().any(|child| child.mode == first.mode);
        let fits = |connection: &&Connection| self.behaviour(responder).transport != TransportMode::Recognised || mode(connection);
        let candidates: Vec<_> = known.iter().copied().filter(fits).collect();
        let Some(answering) = self.answering(&candidates, first) else {
            self.refuse(ExchangeType::IkeAuth, 1, Notify::AUTHENTICATION_FAILED, source);
            if let Some(own) = known.first().and_then(|connection| connection.children.first()) {
                self.unfit_mode(first, own, Stage::Authentication, [Some(Line::NotBelieved), Some(Line::PeerUnknown)]);
                return None;
            }
            self.stranger(Stage::Authentication);
            return None;
        };
        let keyless = |child: &Child, end| self.esp(end, child, KeySource::OfIke);
        let fits =
            answering.children.iter().any(|own| self.chosen(responder, &keyless(first, initiator), &keyless(own, responder)).is_some());
        // Who refuses everything with the first Child SA looks at that one before anything else.
        let refused = !fits && self.behaviour(responder).refusal == Refusal::Whole;
        if let Some(Disbelief { cause, reason, cures }) = self.disbelief(initiator, initiating, answering).filter(|_| !refused) {
            self.refuse(ExchangeType::IkeAuth, 1, Notify::AUTHENTICATION_FAILED, source);
            self.fail((Stage::Authentication, vec![cause]), reason, [Some(Line::NotBelieved), Some(Line::ProofWrong)], cures);
            return None;
        }
        let peer = self.name(initiator);
        self.think(responder, || format!("believes {peer} and takes its connection {}", answering.name));
        let reply = self
            .reply(responder, ExchangeType::IkeAuth, 1, "RFC 7296 section 1.2")
            .with("IDr", || self.shown(responder, answering).words())
            .with("AUTH", || answering.ike().local_method.value.words());
        if let Some(Disbelief { cause, reason, cures }) = self.disbelief(responder, answering, initiating).filter(|_| !refused) {
            self.say(child_payloads(reply, &without_groups(&first.esp.value), first));
            let goodbye = self.request(initiator, ExchangeType::Informational, 2, source);
            self.say(goodbye.refusing(Notify::AUTHENTICATION_FAILED));
            self.fail((Stage::Authentication, vec![cause]), reason, [Some(Line::PeerIsAnother), None], cures);
            return None;
        }
        self.child(first, answering, reply, true);
        Some(answering)
    }

    /// Which of the connections that know the peer answers.
    fn answering(&self, candidates: &[&'a Connection], asked: &Child) -> Option<&'a Connection> {
        let behaviour = self.behaviour(self.responder());
        if behaviour.answering == Answering::First || candidates.len() <= 1 {
            return candidates.first().copied();
        }
        // Whom the initiator asks for goes before anything else.
        let is_asked = |connection: &&&Connection| self.asked_identity() == Some(&self.shown(self.responder(), connection));
        let named: Vec<_> = candidates.iter().filter(is_asked).copied().collect();
        let candidates = if named.is_empty() { candidates } else { named.as_slice() };
        let first = candidates.first().copied()?;
        let wanted = Wanted::by_initiator(asked);
        let has = |exactly: bool| {
            candidates.iter().copied().find(|connection| {
                connection.children.iter().any(|child| {
                    let own = Wanted::by_responder(child);
                    own.same(&wanted) || !exactly && answer(narrowing_of(child, behaviour.narrowing.value), &wanted, &own).is_some()
                })
            })
        };
        has(true).or_else(|| has(false)).or(Some(first))
    }

    /// A further Child SA (RFC 7296 section 1.3.1).
    fn another(&mut self, child: &'a Child, answering: &'a Connection, id: &mut u32) {
        let source = "RFC 7296 section 1.3.1";
        let request = self.request(self.initiator, ExchangeType::CreateChildSa, *id, source);
        let group = first_group(&child.esp.value);
        let request = child_payloads(request, &child.esp.value, child);
        let request = with_key(request.plain("Ni"), group);
        self.say(request);
        let reply = self.reply(self.responder(), ExchangeType::CreateChildSa, *id, source);
        self.child(child, answering, reply, false);
        *id += 1;
    }

    /// Why none of the responder's Child SAs fits what is asked for.
    fn refused_selectors(&mut self, asked: &'a Child, answering: &'a Connection, wanted: &Wanted) {
        let platform = self.behaviour(self.responder()).narrowing.value;
        let covers = |child: &&Child| answer(narrowing_of(child, platform), wanted, &Wanted::by_responder(child)).is_some();
        // What fits as it is written is narrowed by one mode alone.
        let whole = Wanted::by_initiator(asked);
        let alike = |child: &&Child| child.mode.value != asked.mode.value && Wanted::by_responder(child).same(&whole);
        let told = [Some(Line::SelectorsRefused), Some(Line::NoSelectors)];
        match (answering.children.iter().find(covers), answering.children.iter().find(alike)) {
            (Some(own), _) => self.only_between_hosts(asked, own, told),
            (None, Some(own)) => self.unfit_mode(asked, own, Stage::ChildSa, told),
            (None, None) => _ = self.unfit_selectors(asked, answering, told),
        }
    }

    /// What the responder makes of a request for a Child SA. The first one takes its keys from the IKE SA.
    fn child(&mut self, asked: &'a Child, answering: &'a Connection, reply: MessageDraft, first: bool) {
        let (initiator, responder) = (self.initiator, self.responder());
        let wanted = Wanted::by_initiator(asked);
        let wanted = self.between_hosts(initiator, asked, wanted);
        if wanted.near.is_empty() || wanted.far.is_empty() {
            self.say(reply.refusing(Notify::TS_UNACCEPTABLE));
            let reason = format!(
                "{} asks for transport mode, in which it leaves out networks that are not the two gateways themselves: nothing is left.",
                self.name(initiator)
            );
            let (cause, cures) = self.nothing_to_ask(asked);
            let told = [Some(Line::SelectorsRefused), Some(Line::NoSelectors)];
            self.fail((Stage::ChildSa, vec![cause]), reason, told, cures).child = child_name(asked);
            return;
        }
        let platform = self.behaviour(responder).narrowing.value;
        let narrowing = |child: &Child| narrowing_of(child, platform);
        // The responder narrows first, and looks at what is left.
        let fits = |child: &&Child| {
            let answered = self.between_hosts(responder, child, answer(narrowing(child), &wanted, &Wanted::by_responder(child))?);
            (!answered.near.is_empty() && !answered.far.is_empty()).then_some(answered)
        };
        let exact = answering.children.iter().find(|child| Wanted::by_responder(child).same(&wanted));
        let fitting = exact.or_else(|| answering.children.iter().find(|child| fits(child).is_some()));
        let Some((own, answered)) = fitting.and_then(|child| Some((child, fits(&child)?))) else {
            self.say(self.bare(reply, first).refusing(Notify::TS_UNACCEPTABLE));
            self.refused_selectors(asked, answering, &wanted);
            return;
        };
        let transport = |child: &Child| child.mode.value == Mode::Transport;
        if self.behaviour(responder).transport == TransportMode::Insisted && transport(own) && !transport(asked) {
            self.say(self.bare(reply, first).refusing(Notify::NO_PROPOSAL_CHOSEN));
            self.unfit_mode(asked, own, Stage::ChildSa, [Some(Line::EspRefused), None]);
            return;
        }
        let keys = if first { KeySource::OfIke } else { KeySource::Own };
        let by_first = !first && self.behaviour(responder).further_child == FurtherChild::ByFirst;
        let judge = answering.children.first().filter(|_| by_first).unwrap_or(own);
        let chosen = self.chosen(responder, &self.esp(initiator, asked, keys), &self.esp(responder, judge, keys));
        let Some(suite) = chosen else {
            let whole = first && self.behaviour(responder).refusal == Refusal::Whole;
            self.say(self.bare(reply, first).refusing(Notify::NO_PROPOSAL_CHOSEN));
            let told = whole.then(|| self.behaviour(initiator).words(Line::RefusedWhole, IkeVersion::V2)).flatten().map(str::to_owned);
            let failure = self.unfit_esp(asked, judge, !first, Stage::ChildSa);
            if whole {
                failure.practice = "no IKE SA";
                failure.logs[initiator] = told.or(failure.logs[initiator].take());
            }
            return;
        };
        let mut reply = reply.with("SA", || suite.to_string());
        if !first {
            reply = with_key(reply.plain("Nr"), suite.group());
        }
        self.say(selector_payloads(reply, &answered));
        if self.behaviour(initiator).transport == TransportMode::Insisted && transport(asked) && !transport(own) {
            self.unfit_mode(asked, own, Stage::ChildSa, [Some(Line::EspRefused), None]);
            return;
        }
        let own_wants = self.between_hosts(initiator, asked, Wanted::by_initiator(asked));
        let Some(kept) = taken(narrowing_of(asked, self.behaviour(initiator).narrowing.value), &own_wants, &answered) else {
            let told = [Some(Line::ReplyUnfit), None];
            match answer(narrowing(own), &wanted, &Wanted::by_responder(own)).is_some_and(|whole| whole != answered) {
                true => self.only_between_hosts(asked, own, told),
                false => _ = self.unfit_selectors(asked, answering, told),
            }
            return;
        };
        let sent_back = match narrowing(own) {
            Narrowing::Unasked => Wanted::by_responder(own),
            _ => answered.clone(),
        };
        self.opened(asked, own, &kept, &sent_back, &suite);
    }

    /// What is really asked for: in transport mode some ask for the addresses of the two gateways, and nothing else. Of a network with
    /// one of them that address is left.
    pub(super) fn between_hosts(&self, end: usize, child: &Child, wanted: Wanted) -> Wanted {
        if child.mode.value != Mode::Transport || self.behaviour(end).transport != TransportMode::BetweenHosts {
            return wanted;
        }
        let only = |nets: Vec<IpNet>, end: usize| {
            let EndAddresses { own, reached } = self.places(end);
            let of = |net: IpNet| [own, reached].into_iter().flatten().find(|gateway| net.contains(gateway)).map(IpNet::from);
            let mut hosts: Vec<_> = nets.into_iter().filter_map(of).collect();
            hosts.dedup();
            hosts
        };
        Wanted { near: only(wanted.near, self.initiator), far: only(wanted.far, self.responder()), ..wanted }
    }

    /// An end's proposals for ESP, with the groups that count.
    pub(super) fn esp(&self, end: usize, child: &Child, keys: KeySource) -> Vec<Proposal> {
        let mut list = child.esp.value.clone();
        for proposal in &mut list {
            if keys == KeySource::OfIke {
                *proposal = proposal.without(Kind::KeyExchange);
            } else if self.behaviour(end).pfs_group == PfsGroup::OfIke && !proposal.of(Kind::KeyExchange).is_empty() {
                *proposal = proposal.with(Kind::KeyExchange, self.group);
            }
        }
        list
    }

    /// What an end chooses of proposals for ESP.
    pub(super) fn chosen(&self, end: usize, offered: &[Proposal], own: &[Proposal]) -> Option<Suite> {
        choose(offered, own, self.behaviour(end).preference.value)
    }

    /// The reply to the first request as it is when the Child SA is refused: some refuse everything.
    fn bare(&self, reply: MessageDraft, first: bool) -> MessageDraft {
        match first && self.behaviour(self.responder()).refusal == Refusal::Whole {
            true => reply.bare(),
            false => reply,
        }
    }

    /// Notes a Child SA that came up.
    pub(super) fn opened(&mut self, asked: &Child, own: &Child, kept: &Wanted, sent_back: &Wanted, suite: &Suite) {
        let (initiator, responder) = (self.initiator, self.responder());
        // Who asks for everything, or says that a part is enough, takes what the other end has of it.
        let says =
            |child: &Child, wanted: Wanted| child.narrowing.value == Some(true) || kept.same(&wanted) || kept.is_of_everything(&wanted);
        // Who names no network asks for its own address, and is served by whoever grants it with others.
        let asks_for_itself = asked.local.origin == Origin::Default || asked.remote.origin == Origin::Default;
        let whole = kept.same(sent_back)
            && says(asked, Wanted::by_initiator(asked))
            && (says(own, Wanted::by_responder(own)) || asks_for_itself && kept.same(&Wanted::by_initiator(asked)));
        let mut names = [String::new(), String::new()];
        names[initiator].clone_from(&asked.name);
        names[responder].clone_from(&own.name);
        let mut selectors = [Vec::new(), Vec::new()];
        selectors[initiator] = kept.pairs();
        selectors[responder] = sent_back.pairs().into_iter().map(|(near, far)| (far, near)).collect();
        selectors[responder].sort();
        let protection = suite.protection();
        self.think(initiator, || format!("ESP SAs for {}: {protection}", asked.name));
        if !whole {
            self.think(initiator, || "what crosses is less, or something else, than one of the two ends says");
        }
        self.rehearsal.opened.push(OpenedChild { names, selectors, protection, whole });
        self.not_in_udp(asked, own, suite);
    }

    /// New keys for each Child SA, asked for by the end whose keys end first (RFC 7296 section 1.3.3).
    fn rekeys(&mut self, answering: &'a Connection, id: &mut u32) {
        let (initiator, responder) = (self.initiator, self.responder());
        let opened: Vec<[String; 2]> = self.rehearsal.opened.iter().map(|opened| opened.names.clone()).collect();
        for names in opened {
            let by_name = |connection: &'a Connection, end: usize| connection.children.iter().find(|child| child.name == names[end]);
            let (Some(asked), Some(own)) = (by_name(self.initiating(), initiator), by_name(answering, responder)) else { continue };
            let lives = [asked.lifetime.value.soft(), own.lifetime.value.soft()];
            let by_responder = lives[1] < lives[0];
            let (from, [near, far]) = if by_responder { (responder, [own, asked]) } else { (initiator, [asked, own]) };
            self.think(from, || format!("{}: new keys after at most {}", near.name, duration_words(lives[0].min(lives[1]))));
            let source = "RFC 7296 section 1.3.3";
            let request = self.request(from, ExchangeType::CreateChildSa, *id, source).with("N(REKEY_SA)", || near.name.clone());
            let request = child_payloads(request, &near.esp.value, near).plain("Ni");
            self.say(with_key(request, first_group(&near.esp.value)));
            let reply = self.reply(1 - from, ExchangeType::CreateChildSa, *id, source);
            let asked_of = if by_responder { self.initiating() } else { answering };
            let judge =
                asked_of.children.first().filter(|_| self.behaviour(1 - from).further_child == FurtherChild::ByFirst).unwrap_or(far);
            let chosen = self.chosen(1 - from, &self.esp(from, near, KeySource::Own), &self.esp(1 - from, judge, KeySource::Own));
            *id += 1;
            let Some(suite) = chosen else {
                self.say(reply.refusing(Notify::NO_PROPOSAL_CHOSEN));
                let [asked, own] = if by_responder { [judge, near] } else { [near, judge] };
                self.unfit_esp(asked, own, true, Stage::RekeyChild);
                self.swap_logs(from, [Line::RekeyRefused, Line::NoRekeyProposal]);
                continue;
            };
            let reply = with_key(reply.with("SA", || suite.to_string()).plain("Nr"), suite.group());
            self.say(selector_payloads(reply, &Wanted::by_initiator(near)));
        }
    }

    /// A new IKE SA (RFC 7296 section 1.3.2).
    fn new_ike(&mut self, suite: &Suite, id: u32) {
        let (initiator, responder) = (self.initiator, self.responder());
        let lives = [self.initiating(), self.responding()].map(|connection| connection.ike().lifetime.value.soft());
        let from = if lives[1] < lives[0] { responder } else { initiator };
        self.think(from, || format!("a new IKE SA after at most {}", duration_words(lives[0].min(lives[1]))));
        let source = "RFC 7296 section 1.3.2";
        let request = self.request(from, ExchangeType::CreateChildSa, id, source);
        self.say(request.with("SA", || suite.to_string()).plain("Ni").with("KE", || key(suite.group())));
        let reply = self.reply(1 - from, ExchangeType::CreateChildSa, id, source);
        self.say(reply.with("SA", || suite.to_string()).plain("Nr").with("KE", || key(suite.group())));
    }
}

/// Where the keys of a Child SA come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum KeySource {
    /// From the IKE SA alone, as those of the first one do (RFC 7296 section 1.2).
    OfIke,
    /// From an exchange of its own, where there is PFS.
    Own,
}

/// Proposals in a few words.
pub(super) fn offered<T: std::fmt::Display>(list: &[T]) -> String {
    match list {
        [] => "its own list".to_owned(),
        [one] => one.to_string(),
        [first, rest @ ..] => format!("{first}; and {} more", rest.len()),
    }
}

/// Proposals without their groups, as they stand in IKE_AUTH.
fn without_groups(list: &[Proposal]) -> Vec<String> {
    list.iter().map(Proposal::protection).collect()
}

fn child_payloads<T: std::fmt::Display>(message: MessageDraft, offer: &[T], child: &Child) -> MessageDraft {
    let message = message.with("SA", || offered(offer));
    let message = if child.mode.value == Mode::Transport { message.plain("N(USE_TRANSPORT_MODE)") } else { message };
    selector_payloads(message, &Wanted::by_initiator(child))
}

fn selector_payloads(message: MessageDraft, wanted: &Wanted) -> MessageDraft {
    let list = |nets: &[IpNet], port: Option<u16>| match (wanted.protocol, port) {
        (Some(protocol), Some(port)) => format!("{}, IP protocol {protocol}, port {port}", listed(nets)),
        (Some(protocol), None) => format!("{}, IP protocol {protocol}", listed(nets)),
        (None, _) => listed(nets),
    };
    message.with("TSi", || list(&wanted.near, wanted.ports[0])).with("TSr", || list(&wanted.far, wanted.ports[1]))
}

pub(super) fn first_group(list: &[Proposal]) -> Option<Transform> {
    list.first().and_then(|proposal| proposal.first(Kind::KeyExchange))
}

/// The group of a key.
pub(super) fn key(group: Option<Transform>) -> String {
    group.map(|group| group.to_string()).unwrap_or_default()
}

pub(super) fn with_key(message: MessageDraft, group: Option<Transform>) -> MessageDraft {
    match group {
        Some(group) => message.with("KE", || group.to_string()),
        None => message,
    }
}

/// How an end narrows: as its connection says, else as its platform does.
fn narrowing_of(child: &Child, behaviour: Narrowing) -> Narrowing {
    match child.narrowing.value {
        Some(true) => Narrowing::ToTheCommonPart,
        Some(false) => Narrowing::Never,
        None => behaviour,
    }
}

//! What the packet filters of a gateway do with a packet.

use ipnet::IpNet;

use super::leg::{LegEnds, Steered};
use super::{Aspect, Flow, Leg, Way};
use uspan_model::gateway::{Decider, Filter, FilterRule, Hook, Protection, Ruling, Traffic, Verdict};

impl Way<'_> {
    /// What the filter sees of the packet's protection.
    pub(super) fn protection(&self, end: usize, at: LegEnds, steered: &Steered<'_>, flow: &Flow) -> Protection {
        match steered {
            Steered::Into(name) => Protection::Into((*name).to_owned()),
            Steered::Outside(_) if self.covering(end, at, flow).next().is_some() => Protection::Leaving,
            Steered::Outside(_) => Protection::Any,
        }
    }

    /// The filter; nothing where it drops the packet.
    pub(super) fn filtered(
        &self,
        leg: &mut Leg,
        end: usize,
        hook: Hook,
        at: LegEnds,
        protection: Protection,
        traffic: &Traffic,
    ) -> Option<()> {
        let what = if *traffic == Traffic::Replies { "the answer".to_owned() } else { traffic.to_string() };
        let judged = self.gateway(end).judged(&self.met(end, hook, at, &protection, traffic, None));
        match judged.own {
            None => {}
            Some((_, Some(rule))) => self.by_filter(leg, end, rule, &what)?,
            Some((filter, None)) => {
                let joined = filter.is_joined();
                let says = match (hook, &protection) {
                    (Hook::Forward, Protection::Leaving | Protection::Into(_)) if joined => {
                        Some("no rule is for it; it is left to the filter that the rules join")
                    }
                    _ if joined && *traffic == Traffic::Replies => {
                        Some("no rule is for it; a filter that is joined lets answers pass, as a rule")
                    }
                    (Hook::Forward, _) if joined => {
                        let says =
                            format!("no rule lets {what} from {} to {} pass; what the rules join drops it, as a rule", at.from, at.to);
                        self.stop(leg, end, Aspect::Filter, says, format!("Let {what} pass {}.", direction(&protection)));
                        return None;
                    }
                    // Few have rules for what leaves: not worth a word.
                    (Hook::Departure, _) => None,
                    _ => Some("no rule is for it"),
                };
                if let Some(says) = says {
                    self.hop(leg, end, Aspect::Filter, says);
                }
            }
        }
        match &judged.others {
            Some(ruling) => self.by_others(leg, end, hook, at, &what, ruling),
            None => Some(()),
        }
    }

    /// The administrator's chains.
    pub(super) fn by_others(&self, leg: &mut Leg, end: usize, hook: Hook, at: LegEnds, what: &str, ruling: &Ruling<'_>) -> Option<()> {
        let remedy = |before: &str| format!("{before}let {what} pass from {} to {}.", at.from, at.to);
        let done = match (ruling.passes(), ruling.may_pass()) {
            (true, _) => "accepts",
            (false, true) => "drops, unless another rule accepts,",
            (false, false) => "drops",
        };
        let own = self.gateway(end).filter.as_ref().is_some_and(Filter::is_joined);
        let (says, remedy) = match ruling.decider {
            None => return Some(()),
            Some(Decider::Own(rule)) => (format!("{done} {what} {}", between(rule)), remedy("Before this line, ")),
            Some(Decider::Rule(_)) => {
                (format!("the administrator's rule {done} {what} from {} to {}", at.from, at.to), remedy("Before this line, "))
            }
            Some(Decider::Chain(chain)) if ruling.passes() => {
                // What no rule is for and nothing holds back is not worth a word, but for chains that hold others back.
                if ruling.doubts.is_empty() {
                    return Some(());
                }
                (format!("no rule of the chain {} is for it: it passes", chain.name), String::new())
            }
            Some(Decider::Chain(chain)) => {
                let jump = own && !self.gateway(end).ruleset.leads_to_own(hook, at.from.is_ipv4());
                let remedy = match jump {
                    true => format!("Jump from the chain {} to that of the tunnel; nothing does.", chain.name),
                    false => remedy(&format!("In the chain {}, ", chain.name)),
                };
                (format!("no rule of the chain {} is for it: it {done} {what} from {} to {}", chain.name, at.from, at.to), remedy)
            }
        };
        if ruling.may_pass() {
            self.hop(leg, end, Aspect::Filter, says);
        } else {
            self.stop(leg, end, Aspect::Filter, says, remedy);
        }
        self.last_decided(leg, self.decided(end, ruling.decider.and_then(Decider::place)));
        if let Some(hop) = leg.hops.last_mut() {
            hop.open = ruling.may_pass() && !ruling.passes();
            hop.unsure = ruling.doubts.iter().filter_map(|rule| self.by_rule(end, &rule.place)).collect();
        }
        ruling.may_pass().then_some(())
    }

    pub(super) fn by_filter(&self, leg: &mut Leg, end: usize, rule: &FilterRule, what: &str) -> Option<()> {
        let passes = rule.verdict == Verdict::Accept;
        let text = format!("{} {what} {}", if passes { "accepts" } else { "drops" }, between(rule));
        if passes {
            self.hop(leg, end, Aspect::Filter, text);
        } else {
            let remedy = format!("Before this line, let {what} pass {}.", between(rule));
            self.stop(leg, end, Aspect::Filter, text, remedy);
        }
        self.last_decided(leg, self.by_rule(end, &rule.place));
        passes.then_some(())
    }
}

/// Which way a packet goes, for a remedy.
fn direction(protection: &Protection) -> String {
    match protection {
        Protection::Arrived => "where it came out of an SA".to_owned(),
        Protection::Leaving => "where an SA will carry it".to_owned(),
        Protection::Into(name) => format!("into {name}"),
        Protection::OutOf(name) => format!("out of {name}"),
        Protection::Any => "there".to_owned(),
    }
}

/// Whose packets a rule is for; a single address goes without its prefix length.
fn between(rule: &FilterRule) -> String {
    let whom = |net: IpNet| if net.prefix_len() == net.max_prefix_len() { net.addr().to_string() } else { net.to_string() };
    format!("from {} to {}", whom(rule.from), whom(rule.to))
}

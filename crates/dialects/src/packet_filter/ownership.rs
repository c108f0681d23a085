//! Which rules of a gateway are a tunnel's, and which the administrator's.
//!
//! A tunnel's tables and chains have names of their own; what stands there is read as what it is for, and what does not fit
//! is named. All others stay what they are: chains, of which the walk and the comparison ask what they do.

use std::collections::{BTreeMap, HashMap};

use ipnet::IpNet;

use super::{FoundRules, LOG_RATE};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{
    Action, Chain, ChainRule, DESTINATION_ORDER, EXEMPTION_ORDER, Endpoint, Filter, FilterForm, FilterRule, Hook, NEIGHBOUR, NatRule,
    NatTarget, Protection, Ruleset, SegmentLimit, State, Task, Test, Traffic, Transport, Tree, Verdict, What, own_chain,
};

/// What the tables and chains of tunnels are called at their head.
const HEAD: &str = "uspan-";

/// Chains while they are read, found by their names.
#[derive(Default)]
pub(super) struct Chains {
    pub all: Vec<Chain>,
    named: HashMap<String, usize>,
    /// What is looked for.
    key: String,
}

impl Chains {
    /// Where the chain of this name in a table for these families stands, made where it is not there yet.
    pub(super) fn named(&mut self, table: &str, name: &str, [ipv4, ipv6]: [bool; 2]) -> usize {
        let families = |yes| if yes { "+" } else { "-" };
        self.key.clear();
        self.key.extend([families(ipv4), families(ipv6), table, " ", name]);
        if let Some(known) = self.named.get(&self.key) {
            return *known;
        }
        self.named.insert(self.key.clone(), self.all.len());
        self.all.push(Chain { table: table.to_owned(), name: name.to_owned(), ipv4, ipv6, base: None, rules: Vec::new() });
        self.all.len() - 1
    }
}

/// What a chain of a tunnel is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Role {
    /// Translations, at this order; whether accepting a packet exempts it.
    Nat(i32, bool),
    /// Segment sizes.
    Segments,
    /// The filter.
    Filter(Hook),
    /// Nothing that a tunnel has.
    None,
}

/// Tells a tunnel's chains from the others by their tables' names, or by their own in another table.
pub(super) fn nftables(tree: &Tree, chains: Vec<Chain>, findings: Vec<Finding>) -> FoundRules {
    let mut found = FoundOwn { findings, ..FoundOwn::new(tree) };
    let mut others = Vec::new();
    for chain in chains {
        let in_own = chain.table.split_once(' ').is_some_and(|(_, name)| name.starts_with(HEAD));
        let joined = own_chain(&chain.name);
        let role = match (&chain.base, joined) {
            (Some(base), _) if in_own => match (base.task, base.hook, base.order) {
                (Task::Translate, ..) => Role::Nat(base.order, false),
                (Task::Pass, Hook::Forward, -150) => Role::Segments,
                (Task::Pass, hook, _) => {
                    if hook != Hook::Departure {
                        found.form = Some(FilterForm::Standalone);
                    }
                    Role::Filter(hook)
                }
                (Task::Other, ..) => Role::None,
            },
            (None, Some(hook)) => {
                found.form = Some(FilterForm::Joined);
                Role::Filter(hook)
            }
            _ if in_own || chain.table.ends_with(' ') => Role::None,
            _ => {
                others.push(chain);
                continue;
            }
        };
        found.chain(&chain, role);
    }
    found.all(others)
}

/// The same for the built-in tables, where tunnels have nothing but chains.
pub(super) fn iptables(tree: &Tree, chains: Vec<Chain>, findings: Vec<Finding>) -> FoundRules {
    use super::iptables::names::{DESTINATION, NAT, SEGMENTS};
    let mut found = FoundOwn { findings, ..FoundOwn::new(tree) };
    let (own, mut others): (Vec<_>, Vec<_>) = chains.into_iter().partition(|chain| chain.base.is_none() && chain.name.starts_with(HEAD));
    // Which built-in chain jumps to one, and whether something before that translates.
    let mut jumps = BTreeMap::new();
    for chain in &others {
        let mut behind = false;
        for rule in &chain.rules {
            match (&rule.action, &chain.base) {
                (Action::Masquerade | Action::Translate(_), _) => behind = true,
                (Action::Jump(name), Some(base)) if rule.tests.is_empty() && name.starts_with(HEAD) => {
                    jumps.insert((name.as_str(), chain.table.as_str(), chain.ipv4), (base.hook, behind));
                }
                _ => {}
            }
        }
    }
    for chain in &own {
        let jumped = |hook: Hook| {
            jumps.get(&(chain.name.as_str(), chain.table.as_str(), chain.ipv4)).filter(|(at, _)| *at == hook).map(|(_, behind)| *behind)
        };
        let role = match chain.table.as_str() {
            // A chain that nothing jumps to exempts nothing.
            "nat" if chain.name.ends_with(NAT) => match jumped(Hook::Departure) {
                Some(false) => Role::Nat(EXEMPTION_ORDER, true),
                Some(true) => Role::Nat(BEHIND, true),
                None => Role::None,
            },
            "nat" if chain.name.ends_with(DESTINATION) => jumped(Hook::Arrival).map_or(Role::None, |_| Role::Nat(DESTINATION_ORDER, true)),
            "mangle" if chain.name.ends_with(SEGMENTS) => jumped(Hook::Forward).map_or(Role::None, |_| Role::Segments),
            "filter" => match own_chain(&chain.name) {
                Some(hook) => {
                    let standalone = jumped(hook).is_some() || found.form == Some(FilterForm::Standalone);
                    found.form = Some(if standalone { FilterForm::Standalone } else { FilterForm::Joined });
                    Role::Filter(hook)
                }
                None => Role::None,
            },
            _ => Role::None,
        };
        found.chain(chain, role);
    }
    for chain in &mut others {
        let to_own = |rule: &ChainRule| matches!(&rule.action, Action::Jump(name) if name.starts_with(HEAD));
        let alone = chain.rules.iter().all(to_own) && chain.base.as_ref().is_none_or(|base| !base.drops);
        if alone || chain.table != "filter" {
            chain.rules.retain(|rule| !to_own(rule));
        }
    }
    found.all(others)
}

/// The order of an exemption that stands behind a rule that translates: after the administrator's, which usually has 100.
const BEHIND: i32 = 101;

struct FoundOwn<'t> {
    tree: &'t Tree,
    nat: Vec<NatRule>,
    limits: Vec<SegmentLimit>,
    rules: Vec<FilterRule>,
    form: Option<FilterForm>,
    findings: Vec<Finding>,
}

impl<'t> FoundOwn<'t> {
    fn new(tree: &'t Tree) -> FoundOwn<'t> {
        FoundOwn { tree, nat: Vec::new(), limits: Vec::new(), rules: Vec::new(), form: None, findings: Vec::new() }
    }

    fn unknown(&mut self, rule: &ChainRule) {
        let Some(place) = &rule.place.0 else { return };
        let text = self.tree.files.get(&*place.file).and_then(|file| file.text.get(place.span.range())).unwrap_or_default();
        let message = format!("`{}` is not understood", text.split_whitespace().collect::<Vec<_>>().join(" "));
        self.findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(place.clone()));
    }

    fn chain(&mut self, chain: &Chain, role: Role) {
        for rule in &chain.rules {
            let understood = match role {
                Role::Nat(order, accepting) => translation(rule, chain, order, accepting).map(|rule| self.nat.push(rule)),
                Role::Segments => limit(rule, chain).map(|limit| self.limits.push(limit)),
                Role::Filter(hook) => filter_rule(rule, chain, hook).map(|rule| self.rules.push(rule)),
                Role::None => None,
            };
            if understood.is_none() {
                self.unknown(rule);
            }
        }
    }

    fn all(mut self, mut others: Vec<Chain>) -> FoundRules {
        // What decides nothing is not worth asking.
        others.retain(|chain| !chain.rules.is_empty() || chain.base.as_ref().is_some_and(|base| base.drops));
        for rule in others.iter().flat_map(|chain| &chain.rules).filter(|rule| !rule.is_clear() && rule.action != Action::Next) {
            self.unknown(rule);
        }
        self.nat.sort_by_key(|rule| rule.order);
        self.rules.sort_by_key(|rule| rule.hook);
        let filter = self.form.map(|form| Filter { form, rules: self.rules });
        FoundRules { nat: self.nat, filter, segment_limits: self.limits, ruleset: Ruleset { chains: others }, findings: self.findings }
    }
}

/// What the conditions of a rule of a tunnel's ask; each kind once.
#[derive(Default)]
struct Asked<'r> {
    from: Option<IpNet>,
    to: Option<IpNet>,
    ipv4: Option<bool>,
    protocol: Option<u8>,
    ports: Option<&'r [uspan_model::gateway::Ports]>,
    icmp: Option<u8>,
    replies: bool,
    protection: Option<Protection>,
    rate: Option<Option<u32>>,
}

fn single<T>(option: &mut Option<T>, value: T) -> Option<()> {
    option.replace(value).is_none().then_some(())
}

impl<'r> Asked<'r> {
    fn of(tests: &'r [Test]) -> Option<Asked<'r>> {
        let mut asked = Asked::default();
        for test in tests {
            if test.not {
                return None;
            }
            match &test.what {
                What::Source(nets) => single(&mut asked.from, *nets.first().filter(|_| nets.len() == 1)?)?,
                What::Destination(nets) => single(&mut asked.to, *nets.first().filter(|_| nets.len() == 1)?)?,
                What::Ipv4(ipv4) => single(&mut asked.ipv4, *ipv4)?,
                What::Protocol(numbers) => {
                    let number = *numbers.first().filter(|_| numbers.len() == 1)?;
                    if asked.protocol.replace(number).is_some_and(|before| before != number) {
                        return None;
                    }
                }
                What::Port(ports) => single(&mut asked.ports, ports.as_slice())?,
                What::Icmp(types) => match types.as_slice() {
                    [kind @ (8 | 128 | 135 | 136)] => single(&mut asked.icmp, *kind)?,
                    _ => return None,
                },
                What::State(states)
                    if matches!(states.as_slice(), [State::Established, State::Related] | [State::Related, State::Established]) =>
                {
                    asked.replies = true;
                }
                What::Leaving => single(&mut asked.protection, Protection::Leaving)?,
                What::Arrived => single(&mut asked.protection, Protection::Arrived)?,
                What::Into(names) => single(&mut asked.protection, Protection::Into(names.first().filter(|_| names.len() == 1)?.clone()))?,
                What::OutOf(names) => {
                    single(&mut asked.protection, Protection::OutOf(names.first().filter(|_| names.len() == 1)?.clone()))?;
                }
                What::Rate { over: false, a_second } => single(&mut asked.rate, *a_second)?,
                What::SourcePort(_) | What::State(_) | What::Rate { .. } | What::Other => return None,
            }
        }
        Some(asked)
    }

    /// Source and destination; all of the family where nothing is said.
    fn ends(&self, chain: &Chain) -> Option<(IpNet, IpNet)> {
        let of_chain = (chain.ipv4 != chain.ipv6).then_some(chain.ipv4);
        let ipv4 = self.from.or(self.to).map(|net| net.addr().is_ipv4()).or(self.ipv4).or(of_chain)?;
        let all = Endpoint::Anywhere.range(ipv4);
        Some((self.from.unwrap_or(all), self.to.unwrap_or(all)))
    }

    fn traffic(&self) -> Option<Traffic> {
        Some(match (self.protocol, self.ports, self.icmp, self.replies) {
            (None, None, None, false) => Traffic::Any,
            (None, None, None, true) => Traffic::Replies,
            (Some(50), None, None, false) => Traffic::Esp,
            (Some(47), None, None, false) => Traffic::Gre,
            (Some(1 | 58), None, Some(8 | 128), false) => Traffic::Ping,
            (Some(58), None, Some(kind), false) if NEIGHBOUR.contains(&kind) => Traffic::Neighbour(kind),
            (Some(6), Some([ports]), None, false) => Traffic::To(Transport::Tcp, *ports),
            (Some(17), Some([ports]), None, false) => Traffic::To(Transport::Udp, *ports),
            (Some(17), Some(list), None, false) if list.iter().all(|ports| ports.first == ports.last) => {
                Traffic::Udp(list.iter().map(|ports| ports.first).collect())
            }
            _ => return None,
        })
    }
}

fn translation(rule: &ChainRule, chain: &Chain, order: i32, accepting: bool) -> Option<NatRule> {
    let asked = Asked::of(&rule.tests)?;
    let (from, to) = asked.ends(chain)?;
    let plain = asked.traffic()? == Traffic::Any && asked.protection.is_none() && asked.rate.is_none() && !rule.logs;
    let target = match &rule.action {
        Action::Accept if accepting && order != DESTINATION_ORDER => NatTarget::KeepSource,
        Action::Translate(NatTarget::SourceNet(net)) if accepting && order == DESTINATION_ORDER => NatTarget::DestinationNet(*net),
        Action::Translate(NatTarget::SourceNet(net)) if *net == from => NatTarget::KeepSource,
        Action::Translate(target) => *target,
        _ => return None,
    };
    plain.then(|| NatRule { from, to, target, order, place: rule.place.clone() })
}

fn limit(rule: &ChainRule, chain: &Chain) -> Option<SegmentLimit> {
    let Action::Segments(bytes) = rule.action else { return None };
    let asked = Asked::of(&rule.tests)?;
    let Some(Protection::Into(interface)) = asked.protection else { return None };
    Some(SegmentLimit { interface, ipv4: asked.ipv4.unwrap_or(chain.ipv4), bytes })
}

fn filter_rule(rule: &ChainRule, chain: &Chain, hook: Hook) -> Option<FilterRule> {
    let asked = Asked::of(&rule.tests)?;
    let (from, to) = asked.ends(chain)?;
    let verdict = match (&rule.action, rule.logs, asked.rate) {
        (Action::Accept, false, None) => Verdict::Accept,
        (Action::Drop, false, None) => Verdict::Drop,
        (Action::Next, true, Some(Some(LOG_RATE))) => Verdict::Log,
        _ => return None,
    };
    let traffic = asked.traffic()?;
    let protection = asked.protection.unwrap_or(Protection::Any);
    Some(FilterRule { hook, from, to, protection, traffic, verdict, place: rule.place.clone() })
}

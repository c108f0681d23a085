//! What a gateway's own filter lets pass between the networks of its tunnels.

use std::collections::BTreeSet;

use ipnet::IpNet;

use super::{FilterRule, Gateway, Packet, Passing, Protection, Traffic, Verdict};

impl Gateway {
    /// What a filter rule asks of packets that leave through the tunnel, and of those that came out of it.
    pub fn protections(&self) -> [Protection; 2] {
        Protection::of(self.interfaces.first().map(|interface| interface.name.as_str()))
    }

    /// What its hosts may open connections through the tunnel for.
    pub fn hosts_may_open(&self) -> Passing {
        // Nothing is known that forbids anything.
        if self.filter.is_none() {
            return Passing::All;
        }
        let Some((local, remote)) = self.crossing().into_iter().next() else { return Passing::Only(Vec::new()) };
        let passing = self.passing(local, remote, true);
        match passing.contains(&Traffic::Any) {
            true => Passing::All,
            false => Passing::Only(passing.into_iter().filter(|traffic| **traffic != Traffic::Replies).cloned().collect()),
        }
    }

    /// Whether only what a packet's source was translated to shows that it belongs into the tunnel.
    pub fn translates_late(&self, apparent: IpNet, remote: IpNet) -> bool {
        self.interfaces.is_empty() && self.inner(apparent, remote) != apparent
    }

    /// What passes the filter between a pair that crosses, leaving through the tunnel or come out of it.
    pub fn passing(&self, apparent: IpNet, remote: IpNet, leaving: bool) -> BTreeSet<&Traffic> {
        let [into, out_of] = self.protections();
        let local = self.inner(apparent, remote);
        let [departing, arriving] = self.hooks();
        let (hook, from, to, protection) = match leaving {
            true if self.translates_late(apparent, remote) => (departing, local, remote, Protection::Any),
            true => (departing, local, remote, into),
            false => (arriving, remote, local, out_of),
        };
        let own = self.speaks_for_itself();
        let packet = Packet { hook, from, to, protection, traffic: Traffic::Any };
        // What makes and carries the SAs passes without them.
        let bare = |rule: &FilterRule| own && rule.protection == Protection::Any && rule.verdict == Verdict::Accept;
        let concern = |rule: &&FilterRule| rule.concerns(&packet) && rule.verdict != Verdict::Log && !bare(rule);
        let rules = self.filter.iter().flat_map(|filter| &filter.rules).filter(concern);
        rules.take_while(|rule| rule.verdict == Verdict::Accept).map(|rule| &rule.traffic).collect()
    }
}

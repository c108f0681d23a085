//! The tunnel is taken out again, and nothing of it is left on either gateway.

use std::io;
use std::time::Duration;

use super::{Walkthrough, wait_for};
use crate::job::{Check, Outcome};
use crate::stage::room::Said;

/// How long the daemons may take to tell each other. A peer that died unnoticed, because nobody watches it, does not
/// answer: OpenIKED tells it for 126 s before it lets the SAs go.
const LEAVING: Duration = Duration::from_secs(200);

impl Walkthrough<'_, '_> {
    pub(super) fn retire(&mut self) -> io::Result<()> {
        self.begin("taking it out again");
        if self.failed {
            self.row(Check::Retired, "", [Outcome::Unreached, Outcome::Unreached]);
            return Ok(());
        }
        let name = &self.tunnel().name;
        // The end that opens first: the other one cannot be opened to any more.
        let mut order = [0, 1];
        order.sort_by_key(|end| self.tunnel().opens[*end] == crate::job::JobOpening::Never);
        let mut said = [const { None }; 2];
        for end in order {
            if let Some(script) = self.proof.job.sites[self.site(end)].retire.get(name) {
                said[end] = Some(self.gateway(end).room.tell("sh", &["-c", script])?);
            }
        }
        let outcomes = [self.nothing_left(0, said[0].take())?, self.nothing_left(1, said[1].take())?];
        self.row(Check::Retired, "", outcomes);
        Ok(())
    }

    fn nothing_left(&self, end: usize, said: Option<Said>) -> io::Result<Outcome> {
        let Some(said) = said else { return Ok(Outcome::Idle("no script".to_owned())) };
        let mut left = Vec::new();
        let clean = wait_for(LEAVING, || {
            left = self.left(end)?;
            Ok(left.is_empty().then_some(()))
        })?;
        Ok(match clean {
            Some(()) if !self.proof.running[self.site(end)].alive() => Outcome::Fail("the daemon ended".to_owned()),
            Some(()) => Outcome::pass(),
            None => Outcome::Fail(format!("{} ({})", left.join("; "), said.text.trim())),
        })
    }

    /// Everything of the tunnel that is still there.
    fn left(&self, end: usize) -> io::Result<Vec<String>> {
        let (tunnel, gateway) = (self.tunnel(), self.gateway(end));
        let site = &self.proof.job.sites[self.site(end)];
        let mut left = Vec::new();
        let sas = self.sas(end)?.concat().len();
        if sas > 0 {
            left.push(format!("{sas} SAs"));
        }
        // One that is shared goes with the last of its tunnels.
        if !tunnel.shared && !self.ike_marks(end)?.is_empty() {
            left.push("an IKE SA".to_owned());
        }
        let remote: Vec<_> = tunnel.pairs.iter().map(|pair| pair.seen[1 - end].to_string()).collect();
        let mut find = |what: &str, program: &str, args: &[&str], mine: &dyn Fn(&str) -> bool| -> io::Result<()> {
            let text = gateway.room.tell(program, args)?.text;
            left.extend(text.lines().find(|line| mine(line)).map(|line| format!("{what}: {}", line.trim())));
            Ok(())
        };
        // Other tunnels of this gateway have interfaces and policies of their own.
        let set_up =
            site.files.iter().find(|file| file.path.starts_with("etc/network/") && file.path.ends_with(&format!("/uspan-{}", tunnel.name)));
        let words: Vec<&str> = set_up.map(|file| file.text.split_whitespace().collect()).unwrap_or_default();
        let ids = words.windows(2).filter(|pair| pair[0] == "if_id").filter_map(|pair| pair[1].parse::<u32>().ok());
        let ids: Vec<_> = ids.map(|id| format!("{id:#x}")).collect();
        let to_them = |line: &str| remote.iter().any(|net| line.split_whitespace().any(|word| word == net));
        find("a policy", "ip", &["xfrm", "policy"], &|line| {
            let words: Vec<&str> = line.split_whitespace().collect();
            to_them(line) || words.windows(2).any(|pair| pair[0] == "if_id" && ids.iter().any(|id| id == pair[1]))
        })?;
        // Of both families.
        find("a route", "ip", &["route", "show", "table", "all"], &to_them)?;
        // A tunnel to another hub has rules for the same network behind them.
        let rules: Vec<_> = set_up.iter().flat_map(|file| file.text.lines()).filter_map(rule_of).collect();
        for family in ["-4", "-6"].into_iter().filter(|_| !rules.is_empty()) {
            find("a routing rule", "ip", &[family, "rule"], &|line| {
                rules.iter().any(|(from, priority)| line.starts_with(&format!("{priority}:")) && line.contains(&format!("from {from} ")))
            })?;
        }
        let interfaces = site.interfaces.iter().filter_map(|command| command.strip_prefix("ifup "));
        let interfaces: Vec<_> = interfaces.filter(|name| words.contains(name)).collect();
        let mine = |line: &str| interfaces.iter().any(|name| line.contains(&format!(": {name}@")) || line.contains(&format!(": {name}:")));
        find("an interface", "ip", &["-o", "link", "show"], &mine)?;
        let own = format!("uspan-{}", tunnel.name);
        if tunnel.routing {
            // Sessions of other tunnels stay.
            let sessions = site.files.iter().filter(|file| file.path.starts_with("etc/frr/") && names(&file.path, &own));
            let neighbours: Vec<&str> = sessions
                .flat_map(|file| file.text.lines())
                .filter_map(|line| line.trim().strip_prefix("neighbor ")?.split(' ').next())
                .collect();
            let of_neighbour = |line: &str| line.split_whitespace().any(|word| neighbours.contains(&word));
            find("a routing session", "vtysh", &["-c", "show running-config"], &|line| names(line, &own) || of_neighbour(line))?;
        }
        // What the administrator took into a table of his own is his.
        let taken_over = site.joined && gateway.administrator()?.keeps_joined();
        find("a rule", "nft", &["list", "ruleset"], &|line| names(line, &own) && !taken_over)?;
        for file in site.files.iter().filter(|file| is_of(&file.path, &tunnel.name) && !file.path.ends_with(".chains")) {
            let path = format!("/{}", file.path);
            if gateway.room.run(move || std::path::Path::new(&path).exists()) {
                left.push(format!("the file /{}", file.path));
            }
        }
        Ok(left)
    }
}

/// Whether a line has a name that is no part of another one.
fn names(line: &str, name: &str) -> bool {
    line.match_indices(name).any(|(at, _)| !line[..at].ends_with(is_of_a_name) && !line[at + name.len()..].starts_with(is_of_a_name))
}

/// Whether a file is a tunnel's, by its name: the tunnel's own, or that behind the name of the program.
fn is_of(path: &str, tunnel: &str) -> bool {
    let file = path.rsplit('/').next().unwrap_or_default();
    let rest = file.strip_prefix("uspan-").unwrap_or(file).strip_prefix(tunnel);
    rest.is_some_and(|rest| !rest.starts_with(is_of_a_name))
}

fn is_of_a_name(c: char) -> bool {
    c.is_ascii_alphanumeric() || c == '-'
}

/// The network and the priority of a rule that a line of interfaces(5) adds.
fn rule_of(line: &str) -> Option<(&str, &str)> {
    let words: Vec<&str> = line.split_whitespace().collect();
    let after = |word: &str| words.iter().position(|one| *one == word).and_then(|at| words.get(at + 1)).copied();
    words.starts_with(&["up", "ip"]).then(|| Some((after("from")?, after("priority")?))).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_short_name_is_no_part_of_another() {
        assert!(names("table inet uspan-h {", "uspan-h") && !names("table inet uspan-harvest {", "uspan-h"));
        assert!(!names("table inet uspan-h-2 {", "uspan-h"));
        assert!(
            is_of("etc/iked.d/h.conf", "h") && is_of("etc/nftables.d/uspan-h.nft", "h") && is_of("etc/swanctl/conf.d/h.secrets.conf", "h")
        );
        assert!(!is_of("etc/iked.conf", "h") && !is_of("etc/iked.d/harvest.conf", "h"));
    }
}

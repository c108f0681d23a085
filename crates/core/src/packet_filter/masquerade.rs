//! Rules of the administrator's that give everything that leaves the gateway's own address: the one thing of a ruleset of
//! theirs that a tunnel cannot live beside without an exemption.

use ipnet::IpNet;

use crate::finding::{self as rules, Finding};
use crate::gateway::{Masquerade, Tree, Whence};
use crate::source::{Source, Span};

/// Where rulesets stand: nft(8), iptables-save(8).
const BELOW: [&str; 2] = ["etc/nftables", "etc/iptables"];

/// Every such rule, and those of which the condition is not understood.
pub(crate) fn masquerades(tree: &Tree) -> (Vec<Masquerade>, Vec<Finding>) {
    let (mut found, mut findings) = (Vec::new(), Vec::new());
    for (path, file) in tree.files.iter().filter(|(path, _)| BELOW.iter().any(|start| path.starts_with(start))) {
        let source = Source::new(path.as_str(), file.text.as_str());
        let mut start = 0;
        for line in source.text().split_inclusive('\n') {
            let indent = line.len() - line.trim_start().len();
            let span = Span { start: start + indent, end: start + line.trim_end().len().max(indent) };
            start += line.len();
            let words: Vec<&str> = line.split('#').next().unwrap_or_default().split_whitespace().collect();
            if !words.iter().any(|word| word.trim_end_matches(';').eq_ignore_ascii_case("masquerade")) {
                continue;
            }
            let place = source.place(span);
            match rule(&words) {
                Some((interface, from)) => found.push(Masquerade { interface, from, place: Whence(Some(place)) }),
                None => {
                    let message = format!("`{}` is not understood", line.trim());
                    findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(place));
                }
            }
        }
    }
    (found, findings)
}

/// What a rule of either dialect asks: the interface, and the source.
fn rule(words: &[&str]) -> Option<(Option<String>, Option<IpNet>)> {
    let (mut interface, mut from) = (None, None);
    let mut rest = words;
    loop {
        rest = match rest {
            ["oifname" | "oif" | "-o", name, rest @ ..] => {
                interface = Some(name.trim_matches('"').to_owned());
                rest
            }
            ["ip" | "ip6", "saddr", net, rest @ ..] | ["-s", net, rest @ ..] => {
                from = Some(net.parse().ok()?);
                rest
            }
            ["counter", "packets", _, "bytes", _, rest @ ..] | ["counter", rest @ ..] | ["-A", "POSTROUTING", rest @ ..] => rest,
            ["meta", "nfproto", "ipv4" | "ipv6", rest @ ..] => rest,
            ["masquerade" | "masquerade;", ..] | ["-j", "MASQUERADE", ..] => return Some((interface, from)),
            _ => return None,
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::gateway::TreeFile;
    use proptest::prelude::*;

    type Told = (Option<String>, Option<String>);

    fn found(path: &str, text: &str) -> (Vec<Told>, usize) {
        let mut tree = Tree::default();
        tree.add(path, TreeFile::public(text.to_owned()));
        let (found, findings) = masquerades(&tree);
        (found.into_iter().map(|rule| (rule.interface, rule.from.map(|net| net.to_string()))).collect(), findings.len())
    }

    #[test]
    fn both_dialects_and_listings_with_counters() {
        let named = |interface: &str| (Some(interface.to_owned()), None);
        let text = "table ip nat {\n chain postrouting {\n  type nat hook postrouting priority srcnat; policy accept;\n  oifname \"wan0\" counter packets 7 bytes 420 masquerade\n }\n}\n";
        assert_eq!(found("etc/nftables.conf", text), (vec![named("wan0")], 0));
        assert_eq!(found("etc/iptables/rules.v4", "*nat\n-A POSTROUTING -o eth0 -j MASQUERADE\nCOMMIT\n"), (vec![named("eth0")], 0));
        let from = (Some("wan0".to_owned()), Some("10.41.0.0/22".to_owned()));
        assert_eq!(found("etc/nftables.conf", "oifname wan0 ip saddr 10.41.0.0/22 masquerade # all\n"), (vec![from], 0));
    }

    #[test]
    fn another_condition_is_named_and_not_guessed_at() {
        assert_eq!(found("etc/nftables.conf", "oifname \"wan0\" ip daddr != @private masquerade\n"), (vec![], 1));
        assert_eq!(found("etc/nftables.conf", "# masquerade everything\n"), (vec![], 0));
    }

    proptest! {
        #[test]
        fn any_text_is_survived(text in "[masquerdoifnp0-9./ \"\n#é;@!-]{0,200}") {
            let _ = found("etc/nftables.conf", &text);
        }
    }
}

//! `uspan walk`.

use std::collections::BTreeMap;
use std::net::IpAddr;

use serde_json::json;
use uspan_core::{Flow, Walk as Walked, Walker, service, walk};

use super::parts::{self, Part};
use crate::args::{Format, Walk};
use crate::failure::{Failure, Verdict};
use crate::show::{CARE, GOOD, STOP, path, styled};

pub fn run(args: &Walk) -> Result<Verdict, Failure> {
    let known = service(&args.service).and_then(|list| list.into_iter().next());
    let traffic = known.ok_or_else(|| {
        Failure::Usage(format!("`{}` is no service; write a name such as `https`, or a protocol and a port, `tcp/443`", args.service))
    })?;
    if args.from.is_ipv4() != args.to.is_ipv4() {
        return Err(Failure::Usage("--from and --to are of different families".to_owned()));
    }
    let flow = Flow { from: args.from, to: args.to, traffic };
    let pairs = match parts::meant(&args.ends, None)? {
        Ok(pairs) => pairs,
        Err((input, found)) => return super::stopped(&found, &input.source, args.format, "hops", "Nothing was followed"),
    };
    let inside = inside(&args.inside, &pairs)?;
    let walked = pairs.iter().filter_map(|parts| Some((parts, walk(walkers(parts, &inside), &flow)?)));
    // Of several pairs of gateways, the one that comes farthest is meant.
    let Some((parts, walked)) = walked.max_by_key(|(_, walked)| (walked.works(), walked.there.hops.len())) else {
        let none = format!("no gateway is {} or has it behind it: no tunnel of theirs is for that address", args.from);
        return Err(Failure::Usage(none));
    };
    let shown = parts::shown(parts);
    if args.format == Format::Json {
        super::print_json(&json!({
            "from": args.from,
            "to": args.to,
            "service": args.service,
            "fine": walked.works() && walked.is_sure(),
            "there": path::json(&walked.there, &shown),
            "back": walked.back.as_ref().map(|back| path::json(back, &shown)),
        }))?;
    } else {
        parts::print_findings(parts);
        super::print_line(&path::text(&walked, &flow, &shown))?;
        super::print_line(&closing(&walked))?;
    }
    Ok(if walked.works() && walked.is_sure() { Verdict::Fine } else { Verdict::Stopped })
}

/// Inside addresses by gateway.
fn inside(given: &[String], pairs: &[[Part; 2]]) -> Result<BTreeMap<String, Vec<IpAddr>>, Failure> {
    let mut inside: BTreeMap<String, Vec<IpAddr>> = BTreeMap::new();
    for text in given {
        let known = |name: &str| pairs.iter().flatten().any(|part| part.name == name);
        let parsed = text.split_once('=').and_then(|(name, address)| Some((name, address.parse().ok()?)));
        let (name, address) = parsed
            .filter(|(name, _)| known(name))
            .ok_or_else(|| Failure::Usage(format!("`{text}` is not NAME=ADDRESS, with the name of one of the gateways")))?;
        inside.entry(name.to_owned()).or_default().push(address);
    }
    Ok(inside)
}

fn walkers<'a>(parts: &'a [Part; 2], inside: &'a BTreeMap<String, Vec<IpAddr>>) -> [Walker<'a>; 2] {
    parts.each_ref().map(|part| Walker {
        actor: part.actor(),
        inside: inside.get(&part.name).map(Vec::as_slice).unwrap_or_default(),
        shares_internet: part.shares_internet,
    })
}

fn closing(walked: &Walked) -> String {
    match (walked.works(), &walked.back) {
        (true, _) if !walked.is_sure() => format!(
            "{}. Next: list what decides it, such as `ip address` for names of interfaces, and walk again.",
            styled(CARE, "It arrives only if a rule marked ? lets it")
        ),
        (true, _) => format!("{}. It arrives, and the answer comes back.", styled(GOOD, "Fine")),
        (false, Some(_)) => {
            format!("{}. Next: mend the hop above, and walk again.", styled(STOP, "It arrives, and the answer does not come back"))
        }
        (false, None) => format!("{}. Next: mend the hop above, and walk again.", styled(STOP, "It does not arrive")),
    }
}

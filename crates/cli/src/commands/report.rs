//! `uspan report`.

use std::net::IpAddr;

use ipnet::IpNet;
use uspan_core::{
    Build, BuiltTunnel, Description, Flow, Rehearsal, Theme, Traffic, Walker, any_stops, draw, origins, rehearse, sheet, steps, walk,
};

use super::check::plan_few;
use super::parts::{self, Participant};
use crate::args::{Format, ReportArgs};
use crate::failure::{CommandOutcome, Failure};
use crate::files::input::Input;
use crate::files::single;
use crate::page::report::{self, ReportTunnel, ReportWalk, SiteFiles};
use crate::show::{GOOD, ladder_svg, path_shown, styled};

pub fn run(args: &ReportArgs) -> Result<CommandOutcome, Failure> {
    let path = &args.output;
    single::vacant(path, args.replace)?;
    let (mut read, planned) = plan_few(&args.file, &args.supply, None)?;
    let Some(description) = read.description.take().filter(|_| !any_stops(&planned.findings)) else {
        return super::stopped(&planned.findings, &read.source, Format::Text, serde_json::json!({}), "Nothing was written");
    };
    let told = planned.tunnels.iter().map(|built| told(&description, built, &planned, &read)).collect();
    let sites = planned.trees.iter().map(|(name, tree)| SiteFiles { name, tree, origins: origins(&description.source, tree) }).collect();
    let page = report::Report { description: &description, source: &read.source, planned: &planned, sites, tunnels: told }.page();
    single::text(path, &page, args.replace)?;
    let count = if planned.tunnels.len() == 1 { "one tunnel".to_owned() } else { format!("{} tunnels", planned.tunnels.len()) };
    super::print_line(&format!("{}: {count}, in {}. Next: open it in a browser", styled(GOOD, "Reported"), path_shown(path)))?;
    Ok(CommandOutcome::Fine)
}

fn told<'a>(description: &Description, built: &'a BuiltTunnel, planned: &Build, read: &Input) -> ReportTunnel<'a> {
    let parts = parts::of_tunnel(description, built, planned);
    let rehearsal = parts.as_ref().and_then(rehearsed);
    ReportTunnel {
        built,
        picture: draw(description, std::slice::from_ref(built), Theme::Auto).map(|drawing| drawing.svg),
        sheet: sheet(description, built, planned, &read.supplied),
        rehearsal,
        walks: parts.as_ref().map(|parts| walks(parts, built)).unwrap_or_default(),
        steps: steps(description, built),
        provided: parts.as_ref().map(parts::provided).unwrap_or_default(),
    }
}

/// The negotiation, and its ladder.
fn rehearsed(parts: &[Participant; 2]) -> Option<(Rehearsal, String)> {
    let rehearsal = rehearse(parts.each_ref().map(Participant::actor), None).all.into_iter().next()?;
    let ladder = ladder_svg::draw(&rehearsal, &parts::shown(parts));
    Some((rehearsal, ladder))
}

/// A host in a network: the tenth, where it has as many.
fn host(net: IpNet) -> IpAddr {
    net.hosts().nth(9).or_else(|| net.hosts().next()).unwrap_or(net.addr())
}

/// A ping from the first pair of networks in both directions.
fn walks(parts: &[Participant; 2], built: &BuiltTunnel) -> Vec<ReportWalk> {
    let crossing: Vec<_> = built.gateways[0].crossing().into_iter().collect();
    let Some((near, far)) = crossing.first().copied() else { return Vec::new() };
    // Whoever sends writes what the other end's network appears as.
    let (inner, outer) = (built.gateways[0].inner(near, far), built.gateways[1].inner(far, near));
    let flows = [(host(inner), host(far)), (host(outer), host(near))];
    let walkers = || {
        parts.each_ref().map(|part| Walker {
            actor: part.actor(),
            inside: &[],
            shares_internet: part.shares_internet,
            networks: &part.networks,
        })
    };
    let walked = flows.into_iter().enumerate().filter_map(|(end, (from, to))| {
        let walk = walk(walkers(), &Flow { from, to, traffic: Traffic::Ping })?;
        let hidden = parts::hidden(parts, &walk);
        Some(ReportWalk { title: format!("A ping from {} at {} to {to}", from, built.ends[end]), walk, hidden })
    });
    walked.collect()
}

//! `uspan demo`.

use std::fs;
use std::path::Path;

use uspan_core::{any_stops, deliveries, with_programs};

use super::build::{print_files, print_next};
use super::check::plan;
use crate::args::Supply;
use crate::failure::{CommandOutcome, Failure};
use crate::files::output::{self, OutputOutcome, WriteOptions};
use crate::files::{reading, secret, single, trees};
use crate::show::{GOOD, HEADING, agreement, findings, path_shown, path_word, styled};

/// The orchard's description.
const DEMO: &str = include_str!("../../../core/demo/orchard.span.toml");

pub fn run(folder: &Path) -> Result<CommandOutcome, Failure> {
    fs::create_dir_all(folder).map_err(Failure::file("cannot make the folder", folder))?;
    let (description, key, out) = (folder.join("orchard.span.toml"), folder.join("secrets/harvest.key"), folder.join("out"));
    // A second run keeps what is there: the description may have been played with, the secret is in use.
    if !description.exists() {
        single::text(&description, DEMO, false)?;
    }
    if !key.exists() {
        single::secret(&key, secret::generate()?.as_bytes(), false)?;
    }
    let (read, planned) = plan(&description, &Supply::default())?;
    findings::print(&planned.findings, &read.source);
    if any_stops(&planned.findings) {
        return Ok(CommandOutcome::Stopped);
    }
    super::print_line(&format!(
        "{}\n\n{}",
        styled(HEADING, &format!("The description, {}", path_shown(&description))),
        read.source.text()
    ))?;
    for tunnel in &planned.tunnels {
        super::print_line(&format!("{}\n", agreement::text(tunnel, false)))?;
    }
    let earlier = trees::earlier(&out, &planned);
    let (delivered, next) = read.description.as_ref().map_or_else(Default::default, |description| {
        (
            with_programs(description, &planned.trees),
            deliveries(description, &planned.tunnels, &earlier, &planned.trees, &crate::files::input::context()),
        )
    });
    match output::write(&out, &delivered, WriteOptions::default())? {
        OutputOutcome::Done(written) => {
            super::print_line(&styled(HEADING, "The files: one tree a gateway, rooted at its /"))?;
            print_files(&out, &written)?;
        }
        OutputOutcome::Refused(refused) => {
            findings::print(&refused, &read.source);
            return Ok(CommandOutcome::Stopped);
        }
    }
    for path in ["packhouse/etc/swanctl/conf.d/harvest.conf", "coldstore/etc/ipsec.d/harvest.conf"] {
        let path = out.join(path);
        if let Ok(text) = reading::text(&path, reading::FILE) {
            super::print_line(&format!("\n{}\n{}", styled(HEADING, &path_shown(&path)), text.trim_end()))?;
        }
    }
    super::print_line("")?;
    print_next(&out, &next)?;
    super::print_line(&format!(
        "{}. Written, read back and held against each other. Next: change {} and run uspan build {} -o {}",
        styled(GOOD, "Fine"),
        path_word(&description),
        path_word(&description),
        path_word(&out)
    ))?;
    Ok(CommandOutcome::Fine)
}

//! Performing jobs, inside.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write as _};
use std::path::Path;

use crate::job::{Event, Job};
use crate::proof::{SitePlaces, make_places, prove};

/// Where the jobs stand in the folder of a run, until they are read.
pub const JOBS: &str = "jobs.d/jobs";
/// Where is written down what there is to tell.
pub const EVENTS: &str = "events";

/// Performs the jobs of a run, one after the other, and writes down what it has to tell.
pub fn perform(folder: &Path, cache: &Path, state: &Path, waits_freely: bool) -> io::Result<()> {
    let path = folder.join(JOBS);
    let jobs: Vec<Job> = serde_json::from_reader(File::open(&path)?)?;
    // It holds secrets and is not needed any more.
    fs::remove_file(&path)?;
    let mut events = OpenOptions::new().append(true).open(folder.join(EVENTS))?;
    let mut tell = |event: Event| {
        if let Ok(mut line) = serde_json::to_string(&event) {
            line.push('\n');
            let _ = events.write_all(line.as_bytes());
        }
    };
    tell(Event::Up(rustix::system::uname().release().to_string_lossy().into_owned()));
    for job in jobs {
        let places = SitePlaces {
            cache: cache.to_owned(),
            state: state.join(job.number.to_string()),
            logs: folder.join("logs").join(job.number.to_string()),
            waits_freely,
        };
        let done = make_places(&places).and_then(|()| prove(&job, &places, &mut tell));
        if let Err(error) = done {
            tell(Event::Broken { job: job.number, how: error.to_string() });
        }
        tell(Event::Through(job.number));
    }
    Ok(())
}

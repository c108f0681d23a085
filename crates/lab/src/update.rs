//! What comes of taking up other files while a tunnel is up: what a job asks for, and what is told of it.

use serde::{Deserialize, Serialize};

use crate::job::SiteFile;

/// What a gateway is to take up later, while its tunnel is up.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct SiteUpdate {
    /// Its files then.
    pub files: Vec<SiteFile>,
    /// The program that takes them up.
    pub program: String,
    /// How many of the tunnel's pairs, from the first one on, are there before and afterwards.
    pub pairs: usize,
    /// Whether the other end is updated within the same breath, because both have to agree.
    pub together: bool,
    /// How often the program is killed on the way, at moments spread over what it takes; with 0 nothing but the update and the way back
    /// is tried, otherwise also a change that nobody confirms, and a reboot.
    pub kills: u32,
}

/// What was done to a gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum UpdateStep {
    /// It took up what is new.
    Forth,
    /// It went back to what was there before.
    Back,
    /// It took up what is new, and nobody confirmed it.
    Unconfirmed,
    /// Its program was killed on the way.
    Killed,
    /// It took up what is new once more, lost power, and was started as its boot does it.
    Reboot,
}

/// Whose files stand on a gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StandingFiles {
    /// Those from before.
    Old,
    /// Those of the update.
    New,
    /// Some of both.
    Mixed,
}

/// What came of a step at a gateway, while echo requests crossed the tunnel both ways, ten in a second.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct UpdateSeen {
    /// What was done.
    pub step: UpdateStep,
    /// The gateways, in their order.
    pub sites: Vec<String>,
    /// Echo requests without an answer, by the end from which they came.
    pub lost: [u32; 2],
    /// The longest time without an answer, in milliseconds.
    pub longest_gap: u64,
    /// Whether the IKE SAs are those from before.
    pub ike_kept: bool,
    /// Whether the ESP SAs are those from before.
    pub esp_kept: bool,
    /// Whose files stand there.
    pub stands: StandingFiles,
    /// What is wrong afterwards, with what its program said.
    pub wrong: Option<String>,
    /// How long the program took, in milliseconds.
    pub took: u64,
}

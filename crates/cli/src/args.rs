//! Arguments.

use std::path::PathBuf;

use clap::{Parser, Subcommand, ValueEnum};

/// Describe a site-to-site IPsec tunnel once; get matching configurations for two unlike gateways.
#[derive(Debug, Parser)]
#[command(
    name = "uspan",
    version,
    max_term_width = 100,
    after_help = "First steps:\n  uspan demo                          an example, built, in ./orchard-demo\n  uspan new office.span.toml          a commented starter description\n  uspan secret secrets/harvest.key    a strong shared secret\n  uspan check office.span.toml\n  uspan build office.span.toml -o out"
)]
pub struct Args {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

/// What a description leaves open.
#[derive(Clone, Debug, Default, clap::Args)]
pub struct Supply {
    /// An address that the description leaves to be assigned
    #[arg(long, value_name = "SITE.address=ADDRESS")]
    pub given: Vec<String>,
    /// A TOML file with such addresses: a table for each site, with its `address`
    #[arg(long, value_name = "FILE")]
    pub given_from: Option<PathBuf>,
    /// Whether what comes of it goes into the lab and nowhere else
    #[arg(skip)]
    pub for_lab: bool,
}

/// How data is printed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people.
    #[default]
    Text,
    /// For programs.
    Json,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Write a commented starter description
    #[command(after_help = "Example:\n  uspan new office.span.toml")]
    New {
        /// The file to write; it must not exist yet. Without it the text goes to standard output
        file: Option<PathBuf>,
    },
    /// Check a description and show what both ends would agree on; writes nothing
    #[command(
        after_help = "Examples:\n  uspan check office.span.toml\n  uspan check office.span.toml --reasons\n  uspan check office.span.toml --format json"
    )]
    Check {
        /// The description
        file: PathBuf,
        /// What it leaves open
        #[command(flatten)]
        supply: Supply,
        /// Show why each value was chosen and why others were dropped
        #[arg(long)]
        reasons: bool,
        /// Only tunnels of which this earlier output of a build has other files
        #[arg(long, value_name = "DIR")]
        changed_since: Option<PathBuf>,
        /// How to print
        #[arg(long, value_enum, default_value_t)]
        format: Format,
    },
    /// Write the configuration files of both ends of every tunnel, all or none
    #[command(
        after_help = "Examples:\n  uspan build office.span.toml -o out\n  uspan build office.span.toml -o out --preview   # what would change, and when it takes effect\n  uspan build orchards.span.toml -o delta --changed-since out   # of many tunnels, what is new\n  scp -rp out/packhouse/etc root@packhouse:/"
    )]
    Build {
        /// The description
        file: PathBuf,
        /// The folder to write: one folder a site in it, rooted at the gateway's /
        #[arg(short, long, value_name = "DIR")]
        output: PathBuf,
        /// What the description leaves open
        #[command(flatten)]
        supply: Supply,
        /// Only show what would change in an earlier output, and when it takes effect
        #[arg(long)]
        preview: bool,
        /// Overwrite files that this program did not write or that were changed since
        #[arg(long)]
        replace: bool,
        /// Only files that are not the same in this earlier output of a build
        #[arg(long, value_name = "DIR")]
        changed_since: Option<PathBuf>,
        /// How to print
        #[arg(long, value_enum, default_value_t)]
        format: Format,
    },
    /// Hold two gateways' files against each other, parameter by parameter; or one against the description
    #[command(
        after_help = "Examples:\n  uspan compare out/packhouse out/coldstore\n  uspan compare ours theirs --tunnel harvest      # any two folders with an etc in them\n  uspan compare fetched/packhouse --against office.span.toml   # what was changed on the gateway since"
    )]
    Compare(Compare),
    /// Make a description of the tunnels that two gateways have with each other
    #[command(after_help = "Example:\n  uspan adopt fetched/packhouse fetched/coldstore -o office.span.toml")]
    Adopt(Adopt),
    /// Move a site to another platform, with a report of what is carried over
    #[command(
        after_help = "Examples:\n  uspan move office.span.toml --site coldstore --to strongswan          # the report alone\n  uspan move office.span.toml --site coldstore --to strongswan -o new.span.toml"
    )]
    Move {
        /// The description
        file: PathBuf,
        /// The site
        #[arg(long, value_name = "NAME")]
        site: String,
        /// The platform that its gateway will have
        #[arg(long, value_name = "PLATFORM")]
        to: String,
        /// The description to write; the old one stays as it is
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// Write over a file that is there
        #[arg(long, requires = "output")]
        replace: bool,
        /// How to print
        #[arg(long, value_enum, default_value_t)]
        format: Format,
    },
    /// Rehearse the negotiation of two gateways, message by message, without a network
    #[command(
        after_help = "Examples:\n  uspan rehearse office.span.toml                        # what a build would write\n  uspan rehearse office.span.toml --built out            # what stands there now\n  uspan rehearse ours theirs --from ours --svg ladder.svg   # any two folders with an etc in them"
    )]
    Rehearse(Rehearse),
    /// Follow a packet through both gateways, and its answer back
    #[command(
        after_help = "Examples:\n  uspan walk office.span.toml --from 10.41.0.10 --to 10.73.16.10\n  uspan walk ours theirs --from 10.41.0.10 --to 10.73.16.10 --service tcp/443   # any two folders with an etc in them"
    )]
    Walk(WalkArgs),
    /// The parameter sheet of a tunnel; one for the partner to fill in, and a filled-in one read back
    #[command(
        after_help = "Examples:\n  uspan sheet office.span.toml\n  uspan sheet office.span.toml --partner coldstore --format markdown -o coldstore.md\n  uspan sheet office.span.toml --partner coldstore --fill coldstore.md -o new.span.toml"
    )]
    Sheet(SheetArgs),
    /// Draw the tunnels of a description: sites, gateways, networks, and what may cross
    #[command(
        after_help = "Examples:\n  uspan draw office.span.toml -o office.svg\n  uspan draw office.span.toml -o office.png --theme dark --replace"
    )]
    Draw(Draw),
    /// Write a page with everything about the tunnels of a description: picture, sheet, files line by line, rehearsal, walks, checks
    #[command(after_help = "Example:\n  uspan report office.span.toml -o report.html")]
    Report(ReportArgs),
    /// What to look at on each gateway after installing, in order, and what it means when something else is seen
    #[command(
        after_help = "Examples:\n  uspan verify-steps office.span.toml\n  uspan verify-steps office.span.toml --tunnel harvest --format json"
    )]
    VerifySteps {
        /// The description
        file: PathBuf,
        /// What it leaves open
        #[command(flatten)]
        supply: Supply,
        /// Only the tunnel of this name
        #[arg(long, value_name = "NAME")]
        tunnel: Option<String>,
        /// How to print
        #[arg(long, value_enum, default_value_t)]
        format: Format,
    },
    /// Write the scripts that take a tunnel out of both gateways again
    #[command(
        after_help = "Example:\n  uspan retire office.span.toml --tunnel harvest -o retire\n  scp retire/packhouse/retire-harvest.sh root@packhouse: && ssh root@packhouse sh retire-harvest.sh"
    )]
    Retire {
        /// The description, with the tunnel still in it
        file: PathBuf,
        /// The tunnel
        #[arg(long, value_name = "NAME")]
        tunnel: String,
        /// The folder to write: one folder a site in it; not the folder of a build
        #[arg(short, long, value_name = "DIR")]
        output: PathBuf,
        /// What the description leaves open
        #[command(flatten)]
        supply: Supply,
        /// Overwrite files that this program did not write or that were changed since
        #[arg(long)]
        replace: bool,
        /// How to print
        #[arg(long, value_enum, default_value_t)]
        format: Format,
    },
    /// Prove tunnels with the real daemons and real packets, in a throw-away lab on this machine (root)
    #[cfg(feature = "prove")]
    #[command(
        after_help = "Examples:\n  uspan prove --prepare                     # once: installs the daemons, builds a kernel where needed\n  uspan prove office.span.toml\n  uspan prove office.span.toml --built out  # the files as they stand in out\n  uspan prove office.span.toml --built out --with-changes   # changes by hand included, which are named first\n  uspan prove office.span.toml --tunnel harvest --keep logs"
    )]
    Prove(Prove),
    /// What `prove` runs inside the lab
    #[cfg(feature = "prove")]
    #[command(hide = true)]
    ProveInside {
        /// Which part to play
        args: Vec<String>,
    },
    /// Make a strong shared secret in a file that only you can read
    #[command(
        after_help = "Examples:\n  uspan secret secrets/harvest.key\n  uspan secret secrets/harvest.key --print   # also shows it, to read it out to a partner\n  uspan secret keys/packhouse.key --pair     # a pair of keys; keys/packhouse.pub is for the partner\n  uspan secret office.span.toml --for-lab    # keys and certificates, to try the description in the lab"
    )]
    Secret {
        /// The file to write; it must not exist yet
        file: PathBuf,
        /// Make a pair of keys instead: the private one here, mode 0600, the public one beside it, ending in `.pub`
        #[arg(long, conflicts_with = "print")]
        pair: bool,
        /// The file is a description: make the keys and certificates that it names, from an authority of the lab's own,
        /// which `uspan prove` believes and `uspan build` does not
        #[arg(long, conflicts_with_all = ["print", "pair"])]
        for_lab: bool,
        /// Also print the secret
        #[arg(long)]
        print: bool,
        /// Overwrite an existing file; tunnels that use it must then be built and installed again
        #[arg(long)]
        replace: bool,
    },
    /// List the platforms: what each can do, its limits and defaults
    #[command(after_help = "Examples:\n  uspan platforms\n  uspan platforms --format json")]
    Platforms {
        /// How to print
        #[arg(long, value_enum, default_value_t)]
        format: Format,
    },
    /// List the algorithms: status, strength, and each platform's spelling
    #[command(
        after_help = "Examples:\n  uspan algorithms\n  uspan algorithms group\n  uspan algorithms strength     # what the ready-made strengths hold"
    )]
    Algorithms {
        /// Only this kind
        #[arg(value_enum)]
        kind: Option<ListedKind>,
        /// How to print
        #[arg(long, value_enum, default_value_t)]
        format: Format,
    },
    /// Explain a finding, a notification of IKE or a word of the trade; without one list all findings
    #[command(
        after_help = "Examples:\n  uspan explain US203\n  uspan explain NO_PROPOSAL_CHOSEN\n  uspan explain dpd\n  uspan explain group14\n  uspan explain"
    )]
    Explain {
        /// The code or the name of the finding, the notification, or the word
        code: Option<String>,
        /// Print the reference page of all findings as Markdown
        #[arg(long, conflicts_with = "code")]
        reference: bool,
        /// Print the reference page of words and notifications as Markdown
        #[arg(long, conflicts_with_all = ["code", "reference"])]
        words: bool,
        /// How to print
        #[arg(long, value_enum, default_value_t)]
        format: Format,
    },
    /// Print the JSON Schema of the description language, for editors, or of what a command prints
    #[command(
        after_help = "Examples:\n  uspan schema > span.schema.json\n  uspan schema --of check > check.schema.json\nAn editor takes the first one, in the first line of a description:\n  #:schema ./span.schema.json"
    )]
    Schema {
        /// Of what this command prints with --format json
        #[arg(long, value_name = "COMMAND", conflicts_with = "reference")]
        of: Option<Printing>,
        /// Print the reference page of the language as Markdown instead
        #[arg(long)]
        reference: bool,
    },
    /// Write the example of Alder Creek Orchards into a folder, build it and show what came out
    #[command(after_help = "Example:\n  uspan demo orchard-demo")]
    Demo {
        /// The folder
        #[arg(default_value = "orchard-demo")]
        folder: PathBuf,
    },
    /// Print a completion script for a shell
    #[command(after_help = "Example:\n  uspan completions bash > /etc/bash_completion.d/uspan")]
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

/// Arguments of `compare`.
#[derive(Debug, clap::Args)]
pub struct Compare {
    /// A folder that stands for a gateway's /
    #[arg(value_name = "FIRST")]
    pub first: PathBuf,
    /// The folder of the other end
    #[arg(value_name = "SECOND", required_unless_present = "against", conflicts_with = "against")]
    pub second: Option<PathBuf>,
    /// The description that FIRST is held against
    #[arg(long, value_name = "FILE")]
    pub against: Option<PathBuf>,
    /// Which site of the description FIRST is; the one with the folder's name, if nothing is said
    #[arg(long, value_name = "NAME", requires = "against")]
    pub site: Option<String>,
    /// What the description leaves open
    #[command(flatten)]
    pub supply: Supply,
    /// Only the tunnel of this name
    #[arg(long, value_name = "NAME")]
    pub tunnel: Option<String>,
    /// Show the values of what is equal, too
    #[arg(long)]
    pub all: bool,
    /// The platform of FIRST, where files of several stand there
    #[arg(long, value_name = "PLATFORM")]
    pub first_platform: Option<String>,
    /// The platform of SECOND
    #[arg(long, value_name = "PLATFORM", requires = "second")]
    pub second_platform: Option<String>,
    /// How to print
    #[arg(long, value_enum, default_value_t)]
    pub format: Format,
}

/// Arguments of `adopt`.
#[derive(Debug, clap::Args)]
pub struct Adopt {
    /// A folder that stands for a gateway's /
    #[arg(value_name = "FIRST")]
    pub first: PathBuf,
    /// The folder of the other end
    #[arg(value_name = "SECOND")]
    pub second: PathBuf,
    /// The description to write; secrets go into files beside it
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
    /// Write over files that are there
    #[arg(long)]
    pub replace: bool,
    /// The platform of FIRST, where files of several stand there
    #[arg(long, value_name = "PLATFORM")]
    pub first_platform: Option<String>,
    /// The platform of SECOND
    #[arg(long, value_name = "PLATFORM")]
    pub second_platform: Option<String>,
    /// How to print
    #[arg(long, value_enum, default_value_t)]
    pub format: Format,
}

/// Two gateways: those of a description, or two folders.
#[derive(Debug, clap::Args)]
pub struct EndsArgs {
    /// A description; or a folder that stands for a gateway's /
    #[arg(value_name = "FILE|FIRST")]
    pub first: PathBuf,
    /// The folder of the other gateway
    #[arg(value_name = "SECOND")]
    pub second: Option<PathBuf>,
    /// The files as they stand in the output folder of an earlier build, not those that a build would write now
    #[arg(long, value_name = "DIR", conflicts_with = "second")]
    pub built: Option<PathBuf>,
    /// What the description leaves open
    #[command(flatten)]
    pub supply: Supply,
    /// The platform of FIRST, where files of several stand there
    #[arg(long, value_name = "PLATFORM", requires = "second")]
    pub first_platform: Option<String>,
    /// The platform of SECOND
    #[arg(long, value_name = "PLATFORM", requires = "second")]
    pub second_platform: Option<String>,
}

/// Arguments of `rehearse`.
#[derive(Debug, clap::Args)]
pub struct Rehearse {
    /// The gateways
    #[command(flatten)]
    pub ends: EndsArgs,
    /// Who opens the tunnel: a site, or the name of a folder; without it whoever does by its files
    #[arg(long, value_name = "NAME")]
    pub from: Option<String>,
    /// Only the tunnel of this name
    #[arg(long, value_name = "NAME")]
    pub tunnel: Option<String>,
    /// Of a description, only tunnels of which this earlier output of a build has other files
    #[arg(long, value_name = "DIR", conflicts_with_all = ["second", "tunnel"])]
    pub changed_since: Option<PathBuf>,
    /// Draw the ladder into this file, too; for one tunnel
    #[arg(long, value_name = "FILE")]
    pub svg: Option<PathBuf>,
    /// How to print
    #[arg(long, value_enum, default_value_t)]
    pub format: Format,
}

/// How a sheet is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum SheetFormat {
    /// For the terminal.
    #[default]
    Text,
    /// For documents, and to be filled in.
    Markdown,
    /// A page.
    Html,
    /// For programs.
    Json,
}

/// How a picture looks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum ThemeArg {
    /// As whoever looks at it has set it; black on white in print
    #[default]
    Auto,
    /// On a light ground
    Light,
    /// On a dark ground
    Dark,
}

/// Arguments of `draw`.
#[derive(Debug, clap::Args)]
pub struct Draw {
    /// The description
    pub file: PathBuf,
    /// What it leaves open
    #[command(flatten)]
    pub supply: Supply,
    /// Only these tunnels; as often as needed
    #[arg(long, value_name = "NAME")]
    pub tunnel: Vec<String>,
    /// The picture to write: SVG, or PNG where the name ends in .png
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
    /// How it looks; a PNG is light where nothing is said
    #[arg(long, value_enum, default_value_t)]
    pub theme: ThemeArg,
    /// Write over a file that is there
    #[arg(long)]
    pub replace: bool,
}

/// Arguments of `report`.
#[derive(Debug, clap::Args)]
pub struct ReportArgs {
    /// The description
    pub file: PathBuf,
    /// What it leaves open
    #[command(flatten)]
    pub supply: Supply,
    /// The page to write
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
    /// Write over a file that is there
    #[arg(long)]
    pub replace: bool,
}

/// Arguments of `sheet`.
#[derive(Debug, clap::Args)]
pub struct SheetArgs {
    /// The description
    pub file: PathBuf,
    /// What it leaves open
    #[command(flatten)]
    pub supply: Supply,
    /// Only the tunnel of this name
    #[arg(long, value_name = "NAME")]
    pub tunnel: Option<String>,
    /// The sheet for whoever owns this end: what they need and nothing else, with blanks to fill in
    #[arg(long, value_name = "SITE")]
    pub partner: Option<String>,
    /// Read the partner's filled-in sheet (Markdown) back into the description; with -o the file to write it to
    #[arg(long, value_name = "SHEET", requires = "partner")]
    pub fill: Option<PathBuf>,
    /// Write to this file
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Write over a file that is there
    #[arg(long, requires = "output")]
    pub replace: bool,
    /// How to write it
    #[arg(long, value_enum, default_value_t)]
    pub format: SheetFormat,
}

/// Arguments of `walk`.
#[derive(Debug, clap::Args)]
pub struct WalkArgs {
    /// The gateways
    #[command(flatten)]
    pub ends: EndsArgs,
    /// Who sends it
    #[arg(long, value_name = "ADDRESS")]
    pub from: std::net::IpAddr,
    /// To whom, as the sender writes it
    #[arg(long, value_name = "ADDRESS")]
    pub to: std::net::IpAddr,
    /// An address that a gateway has inside, so that it counts as the gateway's own; as often as needed
    #[arg(long, value_name = "NAME=ADDRESS")]
    pub inside: Vec<String>,
    /// What for: a name such as `https`, or a protocol and a port
    #[arg(long, value_name = "SERVICE", default_value = "ping")]
    pub service: String,
    /// How to print
    #[arg(long, value_enum, default_value_t)]
    pub format: Format,
}

/// Arguments of `prove`.
#[cfg(feature = "prove")]
#[derive(Debug, clap::Args)]
pub struct Prove {
    /// The descriptions
    #[arg(required_unless_present = "prepare", value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// What they leave open
    #[command(flatten)]
    pub supply: Supply,
    /// Only this tunnel
    #[arg(long, value_name = "NAME")]
    pub tunnel: Option<String>,
    /// Prove the files as they stand in the output folder of an earlier build, not those that a build would write now
    #[arg(long, value_name = "DIR")]
    pub built: Option<PathBuf>,
    /// Go on where such files hold statements that the build does not have: commands among them are run, in the lab's sandbox
    #[arg(long, requires = "built")]
    pub with_changes: bool,
    /// Run a shell script on a gateway before its daemon starts: what it has beside the tunnel
    #[arg(long, value_name = "SITE=FILE")]
    pub gateway_script: Vec<String>,
    /// Keep the daemons' logs and a capture of the internet between them in this folder
    #[arg(long, value_name = "DIR")]
    pub keep: Option<PathBuf>,
    /// How many descriptions are proven at the same time
    #[arg(long, value_name = "N")]
    pub at_once: Option<usize>,
    /// Install the daemons, and build a kernel with ESP where this machine has none
    #[arg(long)]
    pub prepare: bool,
    /// How to print
    #[arg(long, value_enum, default_value_t)]
    pub format: Format,
}

/// What `algorithms` lists.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ListedKind {
    /// Ciphers.
    Encryption,
    /// Pseudo-random functions.
    Prf,
    /// Integrity algorithms.
    Integrity,
    /// Key exchange groups.
    Group,
    /// The ready-made strengths.
    Strength,
}

/// Commands that print JSON.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Printing {
    /// `uspan adopt`
    Adopt,
    /// `uspan algorithms`
    Algorithms,
    /// `uspan build`
    Build,
    /// `uspan check`
    Check,
    /// `uspan compare`
    Compare,
    /// `uspan explain`
    Explain,
    /// `uspan move`
    Move,
    /// `uspan platforms`
    Platforms,
    /// `uspan prove`
    Prove,
    /// `uspan rehearse`
    Rehearse,
    /// `uspan retire`
    Retire,
    /// `uspan sheet`
    Sheet,
    /// `uspan verify-steps`
    VerifySteps,
    /// `uspan walk`
    Walk,
}

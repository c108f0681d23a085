//! US95x: the lab.

chapter! {
    LAB_NEEDS_ROOT = "US951" "lab-needs-root" Error {
        what: "A tunnel is to be proven by somebody who is not root.",
        why: "The lab makes network namespaces and runs the real daemons in them.",
        remedy: "Run the same command as root.",
    }
    LAB_LACKS_PROGRAM = "US952" "lab-lacks-program" Error {
        what: "A program that the lab runs is not installed.",
        why: "A tunnel is proven with the real daemons and nothing else.",
        remedy: "`uspan prove --prepare` installs all that is needed.",
    }
    LAB_LACKS_KERNEL = "US953" "lab-lacks-kernel" Error {
        what: "This machine's kernel has no ESP, and no guest kernel was built yet.",
        why: "Without ESP no packet is ever protected; an IKE SA alone proves little.",
        remedy: "`uspan prove --prepare` builds a guest kernel, once, in about seven minutes.",
    }
    FOREIGN_STATEMENT = "US954" "foreign-statement" Error {
        what: "A tree that is to be proven holds a statement that the build of its description does not have.",
        why: "The lab runs what the tree says, as root of a gateway of its own: commands that stand in it are run, and a proof with them proves something else.",
        remedy: "Look at it; where it is meant, say `--with-changes`. To prove what the description says, leave `--built` out.",
    }
}

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
}

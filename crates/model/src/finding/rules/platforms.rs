//! US6xx: what a platform cannot say.

chapter! {
    UNKNOWN_PLATFORM = "US601" "unknown-platform" Error {
        what: "A platform that this program does not know.",
        why: "Without its table nothing can be written for it.",
        remedy: "Choose one that `uspan platforms` lists.",
    }
    CANNOT_BE_WRITTEN = "US602" "cannot-be-written" Error {
        what: "A value that the platform's files cannot express.",
        why: "Leaving it out would make the two ends differ.",
        remedy: "Change the value as the message says.",
    }
    PLATFORM_CANNOT = "US603" "platform-cannot" Error {
        what: "Something that a site's platform cannot do.",
        why: "Left out or replaced in silence, it would make the two ends differ, or the tunnel work in another way than the description says.",
        remedy: "Choose what both platforms can do.",
    }
    ALLOWED_IN_VAIN = "US604" "allowed-in-vain" Warning {
        what: "A site allows an algorithm that its platform cannot do.",
        why: "It will not be used; perhaps another one was meant, or the site has another platform.",
        remedy: "Remove it.",
    }
}

//! US4xx: algorithms and the agreement.

chapter! {
    UNKNOWN_ALGORITHM = "US401" "unknown-algorithm" Error {
        what: "A word that names no algorithm of this kind.",
        why: "A daemon would refuse the proposal, or worse, take another one.",
        remedy: "Choose a name that `uspan algorithms` lists.",
    }
    WRONG_KIND = "US402" "wrong-kind" Error {
        what: "An algorithm that exists but does not belong here.",
        why: "A cipher is no integrity algorithm and no key exchange group.",
        remedy: "Move it to the key that its kind belongs to.",
    }
    INTEGRITY_WITH_AEAD = "US403" "integrity-with-aead" Error {
        what: "A separate integrity algorithm beside a combined-mode cipher.",
        why: "GCM, CCM and ChaCha20-Poly1305 protect integrity themselves; RFC 7296 section 3.3 forbids a second one in the same proposal.",
        remedy: "Remove `integrity`.",
    }
    NO_INTEGRITY = "US404" "no-integrity" Error {
        what: "A cipher without integrity protection.",
        why: "Without it an attacker can change packets; RFC 8221 section 4 forbids it.",
        remedy: "Add `integrity = \"sha2-256\"`, or choose a combined-mode cipher such as `aes-256-gcm`.",
    }
    NO_PRF = "US405" "no-prf" Error {
        what: "An IKE proposal with a combined-mode cipher does not name its PRF.",
        why: "With a separate integrity algorithm the PRF follows from its hash; a combined-mode cipher has none to follow from.",
        remedy: "Add `prf = \"sha2-256\"` or `prf = \"sha2-384\"`.",
    }
    WEAK_ALGORITHM = "US406" "weak-algorithm" Error {
        what: "A weak or withdrawn algorithm.",
        why: "RFC 8221, RFC 8247 and RFC 9395 advise against it or forbid it; a tunnel built on it protects little.",
        remedy: "Choose a stronger one; if the partner has nothing else, allow it by name with a reason: `allows-weak = { \"NAME\" = \"why\" }`.",
    }
    ALLOWED_WITHOUT_REASON = "US407" "allowed-without-reason" Error {
        what: "A weak algorithm is allowed, but no reason is given.",
        why: "The next engineer must be able to see whether the reason still holds.",
        remedy: "Write the reason as the value.",
    }
    NEEDLESS_ALLOWANCE = "US408" "needless-allowance" Warning {
        what: "An algorithm is allowed as weak although it is not weak or not offered.",
        why: "An allowance that nothing needs will be used by accident one day.",
        remedy: "Remove it.",
    }
    WEAK_IN_USE = "US409" "weak-in-use" Warning {
        what: "A weak algorithm is offered because the tunnel allows it.",
        why: "It is reported at every build, so that it does not stay for ever.",
        remedy: "Replace it as soon as the reason is gone.",
    }
    NOTHING_IN_COMMON = "US410" "nothing-in-common" Error {
        what: "No proposal is left that both platforms can do.",
        why: "The negotiation would end with NO_PROPOSAL_CHOSEN.",
        remedy: "Choose a proposal that both sides can do.",
    }
    OFFER_DROPPED = "US411" "offer-dropped" Warning {
        what: "A proposal of the description was left out because a platform cannot do it.",
        why: "You should know why the stronger one is not used.",
        remedy: "Remove it, or leave it as a wish for the day the platform can.",
    }
    SAME_PROPOSAL = "US412" "same-proposal" Warning {
        what: "The same proposal, or the same value of a list, is written twice.",
        why: "The second one can never be chosen.",
        remedy: "Remove one of the two.",
    }
    KEY_LENGTH_MISSING = "US413" "key-length-missing" Error {
        what: "A registry name that leaves the key length open.",
        why: "Ends that default to different lengths do not agree.",
        remedy: "Write our name with the length in it.",
    }
    NOT_FOR_THIS_SA = "US415" "not-for-this-sa" Error {
        what: "An algorithm that cannot be used in this kind of SA.",
        why: "The registry or the RFC defines it for the other one only.",
        remedy: "Choose one that `uspan algorithms` lists for this SA.",
    }
    NULL_ENCRYPTION = "US416" "null-encryption" Error {
        what: "ESP without encryption.",
        why: "The traffic would cross the internet readable by everyone.",
        remedy: "Choose a cipher, for example `aes-256-gcm`.",
    }
    PFS_GROUP_BOUND = "US417" "pfs-group-bound" Error {
        what: "Another group for perfect forward secrecy than that of the IKE SA, with a platform that cannot do that.",
        why: "It answers the first rekey of ESP with NO_PROPOSAL_CHOSEN, or rekeys with the group of the IKE SA: the tunnel comes up and breaks an hour later.",
        remedy: "Write `pfs = true`, which takes the group of the first IKE proposal.",
    }
    IKEV1_IN_USE = "US418" "ikev1-in-use" Warning {
        what: "A tunnel is negotiated with IKEv1.",
        why: "RFC 9395 withdrew it: it is not maintained, and has no newer algorithms.",
        remedy: "Say `version = \"ikev2\"` as soon as both ends can do it.",
    }
    AGGRESSIVE_IN_USE = "US419" "aggressive-in-use" Warning {
        what: "Aggressive mode with a shared secret is used because the tunnel allows it.",
        why: "Whoever can listen once can try secrets at leisure; it is reported at every build, so that it does not stay for ever.",
        remedy: "Use main mode, or IKEv2, as soon as the reason is gone; until then a secret of at least 128 bits of chance.",
    }
    AGGRESSIVE_WITHOUT_IKEV1 = "US420" "aggressive-without-ikev1" Error {
        what: "Aggressive mode is asked of IKEv2.",
        why: "It is a mode of IKEv1 alone.",
        remedy: "Remove `aggressive`, or say `version = \"ikev1\"`.",
    }
    MAIN_MODE_NEEDS_ADDRESS = "US421" "main-mode-needs-address" Error {
        what: "Main mode of IKEv1 with a shared secret and a peer without a fixed address.",
        why: "Main mode encrypts the identity with a key that follows from the secret, so the secret must be found by the address (RFC 2409 section 5.4). Some take that of the first connection for a peer at any address, which serves one of them.",
        remedy: "Use IKEv2; if the partner has nothing else, aggressive mode.",
    }
}

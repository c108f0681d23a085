//! US9xx: the output folder.

chapter! {
    FOREIGN_FILE = "US901" "foreign-file" Error {
        what: "A file that this program did not write stands where it wants to write.",
        why: "It may be the only copy of something.",
        remedy: "Move it away, choose another folder, or say `--replace`.",
    }
    CHANGED_BY_HAND = "US902" "changed-by-hand" Error {
        what: "A file of an earlier build was changed since.",
        why: "The change would be lost; perhaps it belongs into the description.",
        remedy: "Carry the change into the description, or say `--replace`.",
    }
    NOT_A_FOLDER = "US903" "not-a-folder" Error {
        what: "The output path exists and is not a folder.",
        why: "Writing there would replace it.",
        remedy: "Choose another path.",
    }
    UNREADABLE_MANIFEST = "US904" "unreadable-manifest" Error {
        what: "The manifest of an earlier build cannot be understood.",
        why: "Without it the program cannot tell its own files from yours.",
        remedy: "Move the folder away or say `--replace`.",
    }
}

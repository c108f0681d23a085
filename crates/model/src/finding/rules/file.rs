//! US1xx: the description as a file.

chapter! {
    NOT_UTF8 = "US101" "not-utf8" Error {
        what: "The description is not UTF-8 text.",
        why: "A byte that is no text could mean anything; names and addresses must be readable the same way everywhere.",
        remedy: "Save the file as UTF-8 and try again.",
    }
    SYNTAX = "US102" "syntax" Error {
        what: "The file is not well-formed TOML.",
        why: "Where the structure is broken, a value could end up at the wrong site.",
        remedy: "Correct the line shown; quotes and brackets must be closed.",
    }
    NO_VERSION = "US103" "no-version" Error {
        what: "The description does not say which version of the language it is written in.",
        why: "The language will grow; the version keeps an old description meaning what it meant.",
        remedy: "Write `unified-span = 1` as the first line.",
    }
    UNKNOWN_VERSION = "US104" "unknown-version" Error {
        what: "The description is written in a version of the language that this program does not know.",
        why: "Reading it anyway could leave out what the newer language says.",
        remedy: "Write `unified-span = 1`, or use a newer program.",
    }
    UNKNOWN_KEY = "US105" "unknown-key" Error {
        what: "A key that the language does not have.",
        why: "A mistyped key would silently leave a default in force.",
        remedy: "Correct the spelling or remove the line; `uspan schema` lists all keys.",
    }
    WRONG_TYPE = "US106" "wrong-type" Error {
        what: "A value of another kind than the key takes.",
        why: "Guessing what was meant would put a value into a gateway that nobody wrote.",
        remedy: "Write a value of the kind that the message names.",
    }
    MISSING_KEY = "US107" "missing-key" Error {
        what: "A key that the language requires is not there.",
        why: "There is no sensible default for it.",
        remedy: "Add the key that the message names.",
    }
    EMPTY_VALUE = "US108" "empty-value" Error {
        what: "A value is empty where something must be said.",
        why: "An empty text or list would become an empty setting on a gateway.",
        remedy: "Write the value, or remove the key to take the default.",
    }
    BAD_NAME = "US109" "bad-name" Error {
        what: "The name of a site, a tunnel or a network is not a plain word.",
        why: "Names become parts of file names and section names on every platform; the same word must be legal in all of them.",
        remedy: "Use a lower-case letter followed by lower-case letters, digits or hyphens, at most 32 characters.",
    }
    UNKNOWN_WORD = "US110" "unknown-word" Error {
        what: "A word that is none of the choices for this key.",
        why: "Taking the default instead would hide a mistake.",
        remedy: "Choose one of the words listed.",
    }
    NOTHING_TO_BUILD = "US111" "nothing-to-build" Error {
        what: "The description has no tunnel.",
        why: "Without a tunnel there is nothing to agree on and nothing to write.",
        remedy: "Add a `[tunnel.NAME]` table with `between = [\"one-site\", \"other-site\"]`.",
    }
    CONTROL_CHARACTER = "US112" "control-character" Error {
        what: "A text holds a control character, a line break, or a character that turns the order of reading.",
        why: "On a gateway a line break starts a new statement, and a turned remark reads like a setting; text from a description must never become or look like one.",
        remedy: "Remove the character.",
    }
    SAID_TWICE = "US113" "said-twice" Error {
        what: "The same key or table is written twice.",
        why: "One of the two would win silently.",
        remedy: "Keep one of them.",
    }
    BAD_DURATION = "US114" "bad-duration" Error {
        what: "A duration without a unit, or with one that is not known.",
        why: "Platforms count in seconds, minutes and hours; a bare number has been read as each of them.",
        remedy: "Write whole numbers with `s`, `m`, `h` or `d`, the larger ones first: `3600s`, `90m`, `8h`, `1h30m`, `1d`.",
    }
    INVENTORY_UNREADABLE = "US115" "inventory-unreadable" Error {
        what: "A file with sites cannot be read.",
        why: "Without it the description lacks the sites that stand there.",
        remedy: "Correct the path, which is relative to the description, or the file's permissions.",
    }
    BAD_INVENTORY = "US116" "bad-inventory" Error {
        what: "A file with sites is not a table of them.",
        why: "A row that is read one column off gives a site the address of another.",
        remedy: "Give a CSV file a line of headings and every row as many cells; a JSON file is a list of objects.",
    }
    SITE_TWICE = "US117" "site-twice" Error {
        what: "Two sites have the same name, or a site and an inventory have.",
        why: "Tunnels join sites by their names.",
        remedy: "Give each a name of its own.",
    }
    LONG_TEXT = "US118" "long-text" Error {
        what: "A text is longer than any that a gateway's files are written with.",
        why: "Some daemons read a line piece by piece, and take what is behind a piece for a line of its own.",
        remedy: "Shorten it; what is long belongs into a file of yours, which the text can name.",
    }
}

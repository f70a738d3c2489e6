//! Why steps were not current, in a form that is kept and handed to others.

use serde::{Deserialize, Serialize};

/// Why a step was not current; files and steps by the names that people see.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(tag = "reason", rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum Why {
    /// It never ran in this build.
    New,
    /// A macro that its files name stands for something else.
    Option {
        /// The option that it carries; none for a flag of the part.
        option: Option<String>,
        /// The macro.
        r#macro: String,
        /// What it stood for.
        before: Option<String>,
        /// What it stands for.
        now: Option<String>,
        /// A file that names it.
        named_in: Option<String>,
    },
    /// A file that it read has another content.
    Edited {
        /// The file.
        file: String,
    },
    /// A file that it read is gone.
    Gone {
        /// The file.
        file: String,
    },
    /// Something else that it looked at is not as it was.
    Looks {
        /// What.
        at: String,
    },
    /// The programs behind its tool are not known.
    ToolUnseen {
        /// The tool.
        tool: String,
    },
    /// What it looks at cannot be seen.
    Unseen,
    /// It reads a file that it did not read before.
    Added {
        /// The file.
        file: String,
    },
    /// It no longer reads a file.
    Dropped {
        /// The file.
        file: String,
    },
    /// Something now lies where it was looked for first.
    Appeared {
        /// The file.
        file: String,
    },
    /// Its command has other words.
    Command {
        /// Words that are new.
        added: Vec<String>,
        /// Words that are gone.
        removed: Vec<String>,
    },
    /// The text that it writes follows other values.
    Text,
    /// Its tool is another one.
    Tool {
        /// The tool.
        tool: String,
    },
    /// A result is not there.
    OutputMissing {
        /// The result.
        file: String,
    },
    /// A result was changed by someone else.
    OutputEdited {
        /// The result.
        file: String,
    },
    /// The last run did not count: an input changed while it ran.
    Unsettled,
    /// An earlier step that it reads from runs.
    Follows {
        /// The step.
        step: String,
    },
}

//! Compilers that run another one and add to its words, as those of a message-passing library do. They say themselves what they would run.

/// What a wrapper says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wrapper {
    /// The name that it is called by.
    pub name: String,
    /// The compiler that it runs.
    pub runs: String,
    /// The words that it adds.
    pub adds: Vec<String>,
}

/// The word to which these wrappers answer with the command that they would run.
pub(super) const QUESTION: &str = "-show";

/// Tells whether a program is to be asked: compilers proper take the question for a mistake.
pub(super) fn is_to_be_asked(name: &str) -> bool {
    name.rsplit('/').next().is_some_and(|name| name.contains("mpi"))
}

impl Wrapper {
    /// Reads the answer, `None` when it is no command.
    pub(super) fn of(name: &str, answer: &str) -> Option<Wrapper> {
        let line = answer.lines().find(|line| !line.trim().is_empty())?;
        let mut words = line.split_whitespace().map(str::to_string);
        let runs = words.next().filter(|program| !program.starts_with('-'))?;
        Some(Wrapper { name: name.rsplit('/').next()?.to_string(), runs, adds: words.collect() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_wrapper_runs_is_read() {
        let wrapper = Wrapper::of("/opt/x/bin/mpicc", "\ngcc -I/opt/x/include -L/opt/x/lib -lmpi\n").unwrap();
        assert_eq!((wrapper.name.as_str(), wrapper.runs.as_str()), ("mpicc", "gcc"));
        assert_eq!(wrapper.adds, ["-I/opt/x/include", "-L/opt/x/lib", "-lmpi"]);
        assert_eq!(Wrapper::of("mpicc", "-show: unknown\n"), None);
        assert_eq!(Wrapper::of("mpicc", ""), None);
        assert!(is_to_be_asked("/usr/bin/mpicc") && is_to_be_asked("mpifort") && !is_to_be_asked("/opt/mpi/bin/gcc"));
    }
}

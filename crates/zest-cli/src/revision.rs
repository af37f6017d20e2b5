//! Reads a ledger's folder as it was at a revision of git.

#[cfg(not(feature = "git"))]
pub(crate) fn read(_: &std::path::Path, _: &str) -> anyhow::Result<zest_ledger::Validated> {
    anyhow::bail!("this program was built without `git`: build it with `--features git`, or compare two folders with --was")
}

#[cfg(not(feature = "git"))]
pub(crate) fn before(_: &std::path::Path, _: jiff::Timestamp) -> anyhow::Result<String> {
    anyhow::bail!("this program was built without `git`: build it with `--features git`, or say with --was which folder it was")
}

/// A revision: its name in full, and what it says of itself.
#[derive(Clone, Debug)]
pub(crate) struct Revision {
    pub(crate) id: String,
    pub(crate) subject: String,
}

#[cfg(not(feature = "git"))]
pub(crate) fn since(_: &std::path::Path, _: &str) -> anyhow::Result<Vec<Revision>> {
    anyhow::bail!("this program was built without `git`: build it with `--features git`")
}

#[cfg(feature = "git")]
pub(crate) use of_git::{before, read, since};

#[cfg(feature = "git")]
mod of_git {
    use std::path::{Path, PathBuf};

    use anyhow::{Context as _, Result, anyhow};
    use git2::{Object, ObjectType, Repository, Tree};
    use jiff::Timestamp;
    use zest_ledger::finding::Finding;
    use zest_ledger::source::visible;
    use zest_ledger::{Ledger, Validated};

    use super::Revision;
    use crate::folder::{MAX_DEPTH, is_nearly_document};
    use crate::unknown::Unknown;
    use crate::{cores, progress};

    /// How git marks a link.
    const LINK: i32 = 0o120_000;

    /// Returns the repository of a folder, and the folder in full.
    fn repository_of(folder: &Path) -> Result<(Repository, PathBuf)> {
        let full = folder.canonicalize().with_context(|| format!("`{}` cannot be found", folder.display()))?;
        let repository = Repository::discover(&full).with_context(|| format!("`{}` is in no repository of git", folder.display()))?;
        Ok((repository, full))
    }

    /// Returns what a revision names, as something of a sort.
    fn named<'r, T>(repository: &'r Repository, revision: &str, sort: fn(&Object<'r>) -> Result<T, git2::Error>) -> Result<T, Unknown> {
        let unknown = |why: git2::Error| Unknown(format!("`{}` is no revision here: {}", visible(revision), why.message()));
        repository.revparse_single(revision).and_then(|object| sort(&object)).map_err(unknown)
    }

    /// Reads a folder at a revision and validates what is in it, by the rules by which a folder is read. What cannot be read becomes a
    /// finding.
    pub(crate) fn read(folder: &Path, revision: &str) -> Result<Validated> {
        let (repository, full) = repository_of(folder)?;
        let top = repository.workdir().ok_or_else(|| anyhow!("the repository has no working folder"))?.canonicalize()?;
        let inside: PathBuf = full.strip_prefix(&top).with_context(|| "the folder is not in the repository")?.to_owned();
        let mut tree = named(&repository, revision, Object::peel_to_tree)?;
        if !inside.as_os_str().is_empty() {
            let missing = |_| Unknown(format!("the folder `{}` is not there at `{}`", inside.display(), visible(revision)));
            tree = tree.get_path(&inside).and_then(|entry| entry.to_object(&repository)?.peel_to_tree()).map_err(missing)?;
        }
        let mut found = Found::default();
        collect(&repository, &tree, "", 0, &mut found)?;
        found.documents.sort();
        let Found { documents, findings } = found;
        let ledger = findings.into_iter().fold(Ledger::new(), Ledger::finding);
        Ok(progress::during("reading the ledger", || ledger.documents(&documents, cores::processors()).validate()))
    }

    /// Returns the last revision that is not later than a moment, along the first parents.
    pub(crate) fn before(folder: &Path, moment: Timestamp) -> Result<String> {
        let (repository, _) = repository_of(folder)?;
        let mut next = Some(repository.head()?.peel_to_commit()?);
        while let Some(commit) = next {
            if commit.time().seconds() <= moment.as_second() {
                let short = commit.as_object().short_id()?;
                return Ok(String::from_utf8_lossy(&short).into_owned());
            }
            next = commit.parents().next();
        }
        Err(Unknown(format!("no revision is as old as {moment}: say with --was or --was-at what the ledger was")).into())
    }

    /// Returns the revisions behind another one up to where the repository is, along the first parents, in order.
    pub(crate) fn since(folder: &Path, revision: &str) -> Result<Vec<Revision>> {
        let (repository, _) = repository_of(folder)?;
        let first = named(&repository, revision, Object::peel_to_commit)?;
        let mut list = Vec::new();
        let mut next = Some(repository.head()?.peel_to_commit()?);
        while let Some(commit) = next {
            if commit.id() == first.id() {
                list.reverse();
                return Ok(list);
            }
            let subject = String::from_utf8_lossy(commit.summary_bytes().unwrap_or_default()).into_owned();
            list.push(Revision { id: commit.id().to_string(), subject });
            next = commit.parents().next();
        }
        Err(Unknown(format!("`{}` is not among the first parents of where the repository is", visible(revision))).into())
    }

    #[derive(Default)]
    struct Found {
        documents: Vec<(String, Vec<u8>)>,
        findings: Vec<Finding>,
    }

    /// Collects the documents of a folder and of those below it.
    fn collect(repository: &Repository, tree: &Tree<'_>, above: &str, depth: usize, found: &mut Found) -> Result<()> {
        for entry in tree {
            let name = String::from_utf8_lossy(entry.name_bytes()).into_owned();
            let path = format!("{above}{name}");
            let is_hidden = name.starts_with('.');
            let mut unreadable = |why: &str| found.findings.push(Finding::unreadable(&path, why));
            match entry.kind() {
                Some(ObjectType::Tree) if is_hidden => {}
                Some(ObjectType::Tree) if depth >= MAX_DEPTH => unreadable("folders are nested too deep"),
                Some(ObjectType::Tree) => {
                    let inner = entry.to_object(repository)?.peel_to_tree()?;
                    collect(repository, &inner, &format!("{path}/"), depth + 1, found)?;
                }
                // What it leads to may be anywhere, and may be documents: it is not guessed.
                Some(ObjectType::Blob) if entry.filemode() == LINK => unreadable("it is a link, which is not followed in a revision"),
                Some(ObjectType::Blob) if Ledger::is_document(&name) && is_hidden => {
                    found.findings.push(Finding::not_read(&path, "its name begins with a dot"));
                }
                Some(ObjectType::Blob) if Ledger::is_document(&name) => {
                    found.documents.push((path, entry.to_object(repository)?.peel_to_blob()?.content().to_vec()));
                }
                Some(ObjectType::Blob) if is_nearly_document(&name) => {
                    unreadable("the ending of a document's name is written in small letters")
                }
                Some(ObjectType::Blob) => {}
                _ => unreadable("it is a repository of its own, whose documents would be missing"),
            }
        }
        Ok(())
    }
}

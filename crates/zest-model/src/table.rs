//! A table whose rows are shared with the tables that were made of it.

use std::any::Any;
use std::ops::{Index, Range};
use std::sync::Arc;

use rustc_hash::FxHashMap;

/// What a kind keeps of a system; nobody else knows what is in it.
///
/// # Example
/// ```
/// use zest_ledger::kind::Kept;
/// struct Cabinet { keys: usize }
/// let kept: Kept = std::sync::Arc::new(Cabinet { keys: 12 });
/// assert_eq!(kept.downcast_ref::<Cabinet>().map(|cabinet| cabinet.keys), Some(12));
/// ```
pub type Kept = Arc<dyn Any + Send + Sync>;

/// The rows of one table of a ledger, in order.
///
/// A copy shares all rows; a row that is replaced in a copy costs that row, whatever the length of the table.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, entry::{System, Unrestricted, User, Vocabulary}};
/// let estate = Ledger::new()
///     .user(User::new("watch-1"))
///     .user(User::new("watch-2"))
///     .vocabulary(Vocabulary::new("corvane-os"))
///     .system(System::network_device("sw-1", "corvane-os", Unrestricted::Nothing))
///     .estate()?;
/// let users = estate.users();
/// assert_eq!((users.len(), users[1].id.value.as_str()), (2, "watch-2"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct Table<T> {
    rows: Arc<Vec<T>>,
    /// Rows that are others than in the table this one was made of; most tables have none.
    replaced: Option<Arc<FxHashMap<usize, T>>>,
}

impl<T> Default for Table<T> {
    fn default() -> Self {
        Self { rows: Arc::default(), replaced: None }
    }
}

impl<T: Clone> FromIterator<T> for Table<T> {
    fn from_iter<I: IntoIterator<Item = T>>(rows: I) -> Self {
        Self { rows: Arc::new(rows.into_iter().collect()), replaced: None }
    }
}

impl<T: Clone> Table<T> {
    /// Returns the number of rows.
    ///
    /// # Example
    /// ```
    /// let estate = zest_ledger::Ledger::new().document("it.toml", "[users.watch-1]\n[users.watch-2]\n[systems.rota]\nkind = 'application'\n").estate()?;
    /// assert_eq!(estate.users().len(), 2);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Returns whether there is no row.
    ///
    /// # Example
    /// ```
    /// let estate = zest_ledger::Ledger::new().document("it.toml", "[users.watch-1]\n[users.watch-2]\n[systems.rota]\nkind = 'application'\n").estate()?;
    /// assert!(estate.groups().is_empty());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Returns a row by its number.
    ///
    /// # Example
    /// ```
    /// let estate = zest_ledger::Ledger::new().document("it.toml", "[users.watch-1]\n[users.watch-2]\n[systems.rota]\nkind = 'application'\n").estate()?;
    /// assert_eq!(estate.users().get(1).map(|user| user.id.value.as_str()), Some("watch-2"));
    /// assert!(estate.users().get(2).is_none());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[inline]
    #[must_use]
    pub fn get(&self, index: usize) -> Option<&T> {
        match &self.replaced {
            None => self.rows.get(index),
            Some(replaced) => replaced.get(&index).or_else(|| self.rows.get(index)),
        }
    }

    /// Returns the first row.
    ///
    /// # Example
    /// ```
    /// let estate = zest_ledger::Ledger::new().document("it.toml", "[users.watch-1]\n[users.watch-2]\n[systems.rota]\nkind = 'application'\n").estate()?;
    /// assert_eq!(estate.users().first().map(|user| user.id.value.as_str()), Some("watch-1"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn first(&self) -> Option<&T> {
        self.get(0)
    }

    /// Returns the rows in order.
    ///
    /// # Example
    /// ```
    /// let estate = zest_ledger::Ledger::new().document("it.toml", "[users.watch-1]\n[users.watch-2]\n[systems.rota]\nkind = 'application'\n").estate()?;
    /// assert_eq!(estate.users().iter().rev().next().map(|user| user.id.value.as_str()), Some("watch-2"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn iter(&self) -> Rows<'_, T> {
        Rows { table: self, left: 0..self.len() }
    }

    #[doc(hidden)]
    pub fn push(&mut self, row: T) {
        Arc::make_mut(&mut self.rows).push(row);
    }

    #[doc(hidden)]
    pub fn append(&mut self, later: Self) {
        if self.is_empty() {
            *self = later;
        } else {
            Arc::make_mut(&mut self.rows).extend(later.iter().cloned());
        }
    }

    #[doc(hidden)]
    pub fn sort_by_key<K: Ord>(&mut self, key: impl FnMut(&T) -> K) {
        Arc::make_mut(&mut self.rows).sort_by_key(key);
    }

    /// Replaces a row, here and in no other table.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::estate::Table;
    /// let table: Table<u8> = [1, 2].into_iter().collect();
    /// let mut copy = table.clone();
    /// copy.set(1, 9);
    /// assert_eq!((table[1], copy[1]), (2, 9));
    /// ```
    pub fn set(&mut self, index: usize, row: T) {
        Arc::make_mut(self.replaced.get_or_insert_default()).insert(index, row);
    }
}

impl<T: Clone> Table<Arc<T>> {
    /// Changes a row, here and in no other table; what was changed here before is not copied again.
    ///
    /// # Example
    /// ```
    /// use std::sync::Arc;
    /// use zest_ledger::estate::Table;
    /// let table: Table<Arc<String>> = [Arc::new("watch".to_owned())].into_iter().collect();
    /// let mut copy = table.clone();
    /// copy.edit(0, |row| row.push_str("-1"));
    /// assert_eq!((table[0].as_str(), copy[0].as_str()), ("watch", "watch-1"));
    /// ```
    pub fn edit(&mut self, index: usize, how: impl FnOnce(&mut T)) {
        let rows = &self.rows;
        let row = Arc::make_mut(self.replaced.get_or_insert_default()).entry(index).or_insert_with(|| Arc::clone(&rows[index]));
        how(Arc::make_mut(row));
    }
}

impl<T: Clone> Index<usize> for Table<T> {
    type Output = T;

    #[inline]
    fn index(&self, index: usize) -> &T {
        match &self.replaced {
            None => &self.rows[index],
            Some(replaced) => replaced.get(&index).unwrap_or_else(|| &self.rows[index]),
        }
    }
}

/// The rows of a table in order.
///
/// # Example
/// ```
/// let estate = zest_ledger::Ledger::new().document("it.toml", "[users.watch-1]\n[users.watch-2]\n[systems.rota]\nkind = 'application'\n").estate()?;
/// let names: Vec<&str> = estate.users().iter().map(|user| user.id.value.as_str()).collect();
/// assert_eq!(names, ["watch-1", "watch-2"]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Rows<'t, T> {
    table: &'t Table<T>,
    left: Range<usize>,
}

impl<'t, T: Clone> Iterator for Rows<'t, T> {
    type Item = &'t T;

    fn next(&mut self) -> Option<&'t T> {
        self.table.get(self.left.next()?)
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        self.left.size_hint()
    }
}

impl<T: Clone> DoubleEndedIterator for Rows<'_, T> {
    fn next_back(&mut self) -> Option<Self::Item> {
        self.table.get(self.left.next_back()?)
    }
}

impl<T: Clone> ExactSizeIterator for Rows<'_, T> {}

impl<'t, T: Clone> IntoIterator for &'t Table<T> {
    type Item = &'t T;
    type IntoIter = Rows<'t, T>;

    fn into_iter(self) -> Rows<'t, T> {
        self.iter()
    }
}

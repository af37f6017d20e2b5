//! How the values of an entry are taken out of a table that was checked, and the macro that describes a table once.

use jiff::{SignedDuration, Timestamp};

use crate::finding::{Code, Finding};
use crate::source::{At, Place, visible};

/// An item of a list that may hold texts and tables.
pub(crate) enum Item {
    /// A text; it is of the table whose list it is in.
    Text(At<String>),
    /// A table, which is the source itself, and where it stands.
    Table(Place),
}

/// A table of a document whose values are taken out by key; what does not fit is left out, and was reported.
pub(crate) trait Source {
    /// Returns whether a key is written.
    fn has(&self, key: &str) -> bool;
    /// Returns where the value of a key stands.
    fn place(&self, key: &str) -> Option<Place>;
    /// Returns a text.
    fn text(&self, key: &str) -> Option<At<String>>;
    /// Returns a list of texts, or a text as a list of one.
    fn texts(&self, key: &str) -> Vec<At<String>>;
    /// Returns `true` or `false`.
    fn flag(&self, key: &str) -> Option<At<bool>>;
    /// Returns a whole number.
    fn whole(&self, key: &str) -> Option<At<i64>>;
    /// Returns a list of whole numbers.
    fn wholes(&self, key: &str) -> Vec<i64>;
    /// Returns a length of time.
    fn length(&mut self, key: &str) -> Option<At<SignedDuration>>;
    /// Returns a moment; a plain date under `until` is the end of that day, and must come after `from`.
    fn moment(&mut self, key: &str) -> Option<At<Timestamp>>;
    /// Returns the word of a kind of system that is known.
    fn kind(&self, key: &str) -> Option<At<&'static str>>;
    /// Returns the names in a table below, in the order in which they are written.
    fn names(&self, key: &str) -> Vec<At<String>>;
    /// Hands on the table below.
    fn table(&mut self, key: &str, each: &mut dyn FnMut(Place, &mut dyn Source));
    /// Hands on the tables below, each with its name, in the order in which they are written.
    fn named(&mut self, key: &str, each: &mut dyn FnMut(At<String>, &mut dyn Source));
    /// Hands on the items of a list.
    fn items(&mut self, key: &str, each: &mut dyn FnMut(Item, &mut dyn Source));
    /// Reports what is wrong.
    fn report(&mut self, finding: Finding);
}

/// A value that is one of a few words.
pub(crate) trait Word: Sized {
    /// All words.
    fn words() -> &'static [&'static str];
    /// Reads one.
    fn read(word: &str) -> Option<Self>;
}

/// A value of an entry as it is written.
pub(crate) trait Written {
    /// Takes it out of a table.
    fn read(source: &mut dyn Source, key: &str) -> Self;
}

/// A value that may not be written at all.
pub(crate) trait Blank {
    /// Returns whether nothing is written.
    fn is_blank(&self) -> bool;
}

/// An entry that stands in a table of its own.
pub(crate) trait Entry {
    /// What tells it from others: its name, or where it stands.
    type Anchor;
    /// Reads it.
    fn read(source: &mut dyn Source, anchor: Self::Anchor) -> Self;
}

/// What tells entries of a list or a table from each other.
pub(crate) trait Anchor: Sized {
    /// Reads all of them.
    fn rows<E: Entry<Anchor = Self>>(source: &mut dyn Source, key: &str) -> Vec<E>;
}

impl Anchor for At<String> {
    fn rows<E: Entry<Anchor = Self>>(source: &mut dyn Source, key: &str) -> Vec<E> {
        let mut rows = Vec::new();
        source.named(key, &mut |name, row| rows.push(E::read(row, name)));
        rows
    }
}

impl Anchor for Place {
    fn rows<E: Entry<Anchor = Self>>(source: &mut dyn Source, key: &str) -> Vec<E> {
        tables(source, key, |place, row| Some(E::read(row, place)))
    }
}

/// Reads the tables of a list.
pub(crate) fn tables<T>(source: &mut dyn Source, key: &str, mut read: impl FnMut(Place, &mut dyn Source) -> Option<T>) -> Vec<T> {
    let mut rows = Vec::new();
    source.items(key, &mut |item, row| {
        if let Item::Table(place) = item {
            rows.extend(read(place, row));
        }
    });
    rows
}

fn worded<T: Word>(texts: Vec<At<String>>) -> Vec<At<T>> {
    texts.into_iter().filter_map(|text| T::read(&text.value).map(|value| At::new(value, text.place))).collect()
}

/// Reads names that are words, and reports those that are not.
fn known<T: Word>(source: &mut dyn Source, name: &At<String>) -> Option<At<T>> {
    let found = T::read(&name.value).map(|value| At::new(value, name.place));
    if found.is_none() {
        source.report(
            Finding::new(Code::UnknownWord, format!("`{}` is not known here", visible(&name.value)))
                .at(name.place, "unknown word")
                .help(format!("write one of {}", T::words().join(", "))),
        );
    }
    found
}

/// Reads a value by each name of a table below.
fn by_name<T>(source: &mut dyn Source, key: &str, mut value: impl FnMut(&mut dyn Source, &str) -> Option<T>) -> Vec<(At<String>, T)> {
    let names = source.names(key);
    let mut list = Vec::with_capacity(names.len());
    source.table(key, &mut |_, below| {
        for name in &names {
            list.extend(value(below, &name.value).map(|value| (name.clone(), value)));
        }
    });
    list
}

/// Says how types are read by one method of a source.
macro_rules! read {
    ($($ty:ty: |$source:ident, $key:ident| $read:expr;)+) => {
        $(
            impl Written for $ty {
                fn read($source: &mut dyn Source, $key: &str) -> Self {
                    $read
                }
            }
        )+
    };
}

read! {
    Option<At<String>>: |source, key| source.text(key);
    Option<At<bool>>: |source, key| source.flag(key);
    Option<At<u32>>: |source, key| source.whole(key).and_then(|n| Some(At::new(u32::try_from(n.value).ok()?, n.place)));
    Option<At<SignedDuration>>: |source, key| source.length(key);
    Option<At<Timestamp>>: |source, key| source.moment(key);
    Vec<At<String>>: |source, key| source.texts(key);
    Option<Vec<At<String>>>: |source, key| source.has(key).then(|| source.texts(key));
    // A bare list gives names without values.
    Vec<(At<String>, At<String>)>: |source, key| {
        let mut pairs = by_name(source, key, |below, name| below.text(name));
        pairs.extend(source.texts(key).into_iter().map(|name| (name.clone(), At::new(String::new(), name.place))));
        pairs
    };
    Vec<(At<String>, Vec<At<String>>)>: |source, key| by_name(source, key, |below, name| Some(below.texts(name)));
    Vec<(At<String>, At<u32>)>: |source, key| by_name(source, key, |below, name| Written::read(below, name));
}

impl<T: Word> Written for Option<At<T>> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        let text = source.text(key)?;
        T::read(&text.value).map(|value| At::new(value, text.place))
    }
}

impl<T: Word> Written for Vec<At<T>> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        worded(source.texts(key))
    }
}

impl<T: Word> Written for Option<Vec<At<T>>> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        source.has(key).then(|| worded(source.texts(key)))
    }
}

impl<K: Word> Written for Vec<(At<K>, Vec<At<String>>)> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        let lists: Vec<(At<String>, Vec<At<String>>)> = Written::read(source, key);
        lists.into_iter().filter_map(|(name, texts)| Some((known(source, &name)?, texts))).collect()
    }
}

impl<K: Word, V: Word> Written for Vec<(At<K>, Vec<At<V>>)> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        let lists: Vec<(At<K>, Vec<At<String>>)> = Written::read(source, key);
        lists.into_iter().map(|(name, texts)| (name, worded(texts))).collect()
    }
}

impl<E: Entry> Written for Vec<E>
where
    E::Anchor: Anchor,
{
    fn read(source: &mut dyn Source, key: &str) -> Self {
        E::Anchor::rows(source, key)
    }
}

impl<E: Entry> Written for Option<Vec<E>>
where
    E::Anchor: Anchor,
{
    fn read(source: &mut dyn Source, key: &str) -> Self {
        source.has(key).then(|| E::Anchor::rows(source, key))
    }
}

impl<E: Entry<Anchor = Option<Place>>> Written for Option<E> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        let mut found = None;
        source.table(key, &mut |place, row| found = Some(E::read(row, Some(place))));
        found
    }
}

impl<T> Blank for Vec<T> {
    fn is_blank(&self) -> bool {
        self.is_empty()
    }
}

impl Blank for Option<At<String>> {
    fn is_blank(&self) -> bool {
        self.is_none()
    }
}

impl Blank for Option<At<SignedDuration>> {
    fn is_blank(&self) -> bool {
        self.is_none()
    }
}

impl Blank for Option<At<Timestamp>> {
    fn is_blank(&self) -> bool {
        self.is_none()
    }
}

impl Blank for Option<At<u32>> {
    fn is_blank(&self) -> bool {
        self.is_none()
    }
}

impl<T> Blank for Option<Vec<T>> {
    fn is_blank(&self) -> bool {
        self.is_none()
    }
}

impl<T: Word> Blank for Option<At<T>> {
    fn is_blank(&self) -> bool {
        self.is_none()
    }
}

impl Blank for Option<At<bool>> {
    /// What does not hold is as good as not written.
    fn is_blank(&self) -> bool {
        !self.as_ref().is_some_and(|flag| flag.value)
    }
}

/// Describes a table once: the entry, the shape that checks and documents it, and how it is read.
///
/// Behind the name of an entry stands what tells it from others; a table that has nothing there is part of an entry, and may be
/// empty. A field is its name and type, then its key, what that may hold, and what it is for; `required` keys must be there.
macro_rules! table {
    (
        $(#[$meta:meta])*
        $name:ident { $(#[doc = $of_anchor:literal])+ $anchor:ident: $anchor_ty:ty, }, $shape:ident: $noun:literal, $about:literal, $rules:expr;
        $(
            $(#[doc = $doc:literal])+
            $field:ident: $ty:ty = $($required:ident)? $key:literal, $of:expr, $what:literal $(and $key2:literal, $of2:expr, $what2:literal)?;
        )+
    ) => {
        $(#[$meta])*
        #[derive(Clone, Debug)]
        pub struct $name {
            $(#[doc = $of_anchor])+
            pub $anchor: $anchor_ty,
            $($(#[doc = $doc])+ pub $field: $ty,)+
            #[doc(hidden)]
            pub more: crate::More,
        }

        crate::written::shape! {
            $shape: $noun, $about, $rules;
            $($($required)? $key, $of, $what; $($key2, $of2, $what2;)?)+
        }

        impl $name {
            #[doc(hidden)]
            #[must_use]
            pub fn at($anchor: $anchor_ty) -> Self {
                Self { $anchor, $($field: Default::default(),)+ more: crate::More }
            }
        }

        impl crate::written::Entry for $name {
            type Anchor = $anchor_ty;

            fn read(source: &mut dyn crate::written::Source, $anchor: $anchor_ty) -> Self {
                Self { $anchor, $($field: crate::written::value!(source, $key $(, $key2)?),)+ more: crate::More }
            }
        }

        crate::same::fields!($name { $anchor, $($field,)+ more });
    };
    (
        $(#[$meta:meta])*
        $name:ident, $shape:ident: $noun:literal, $about:literal, $rules:expr;
        $(
            $(#[doc = $doc:literal])+
            $field:ident: $ty:ty = $key:literal, $of:expr, $what:literal;
        )+
    ) => {
        $(#[$meta])*
        #[derive(Clone, Debug, Default)]
        pub struct $name {
            $($(#[doc = $doc])+ pub $field: $ty,)+
            #[doc(hidden)]
            pub more: crate::More,
        }

        crate::written::shape! {
            $shape: $noun, $about, $rules;
            $($key, $of, $what;)+
        }

        impl $name {
            /// Returns whether nothing is written.
            #[must_use]
            pub fn is_empty(&self) -> bool {
                $(crate::written::Blank::is_blank(&self.$field))&&+
            }

            /// Reads what is written in a table of that shape.
            pub(crate) fn of(source: &mut dyn crate::written::Source) -> Self {
                Self { $($field: crate::written::value!(source, $key),)+ more: crate::More }
            }
        }

        impl crate::written::Written for $name {
            fn read(source: &mut dyn crate::written::Source, key: &str) -> Self {
                let mut found = Self::default();
                source.table(key, &mut |_, row| found = Self::of(row));
                found
            }
        }

        crate::same::fields!($name { $($field,)+ more });
    };
}
pub(crate) use table;

/// Describes what a table may hold.
macro_rules! shape {
    ($shape:ident: $noun:literal, $about:literal, $rules:expr; $($($required:ident)? $key:literal, $of:expr, $what:literal;)+) => {
        #[doc = concat!("What ", $noun, " may hold.")]
        pub static $shape: crate::shape::TableShape = crate::shape::TableShape {
            noun: $noun,
            about: $about,
            keys: &[$(crate::written::key!($($required)? $key, $of, $what)),+],
            rules: $rules,
        };
    };
}
pub(crate) use shape;

/// A key of a table.
macro_rules! key {
    (required $key:literal, $of:expr, $what:literal) => {
        crate::shape::Key::required($key, $of, $what)
    };
    ($key:literal, $of:expr, $what:literal) => {
        crate::shape::Key::new($key, $of, $what)
    };
}
pub(crate) use key;

/// The value of a field: of a key, or of two that stand for one list.
macro_rules! value {
    ($source:ident, $key:literal) => {
        crate::written::Written::read($source, $key)
    };
    ($source:ident, $key:literal, $key2:literal) => {{
        let mut all: Vec<crate::source::At<String>> = crate::written::Written::read($source, $key);
        all.extend(<Vec<crate::source::At<String>> as crate::written::Written>::read($source, $key2));
        all
    }};
}
pub(crate) use value;

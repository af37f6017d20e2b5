//! The rules of PostgreSQL 15.

mod acl;
mod catalog;
mod difference;
mod evaluate;
mod need;
mod object;
mod privilege;
mod state;
mod statement;
mod written;

pub use acl::{Acl, AclRefusal, Grantee, Held};
pub use catalog::{Catalog, Matrix, ObjectNumber, RoleNumber, Want, Way};
pub(crate) use evaluate::{Server, open, walk, wanted};
pub(crate) use need::{Demand, Need, On};
pub use object::{ObjectName, literal, quoted};
pub use privilege::{Class, Privilege, Privileges};
pub use state::{BOOTSTRAP, Column, DefaultKey, GrantChange, Object, Role, State};
pub(crate) use written::written;

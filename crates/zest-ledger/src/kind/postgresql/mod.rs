//! The rules of PostgreSQL 15.

mod acl;
mod catalog;
mod difference;
mod object;
mod privilege;
mod state;

pub use acl::{Acl, AclRefusal, Grantee, Held};
pub use catalog::{Catalog, Matrix, ObjectNumber, RoleNumber, Want, Way};
pub use object::{ObjectName, literal, quoted};
pub use privilege::{Class, Privilege, Privileges};
pub use state::{BOOTSTRAP, Column, DefaultKey, GrantChange, Object, Role, State};

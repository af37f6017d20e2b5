//! Writes the documents of a company of a given size into a folder: `cargo run -p zest-testkit --example company -- FOLDER [USERS
//! [ROLES [GRANTS [SEED]]]]`, of a million people if nothing else is said.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "it writes files, and says so")]

use zest_testkit::company::{Company, MILLION};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut given = std::env::args().skip(1);
    let folder = given.next().ok_or("the first argument is the folder to write to")?;
    let Company { users, roles, grants, seed } = MILLION;
    let mut next = |otherwise: usize| given.next().map_or(Ok(otherwise), |text| text.parse());
    let company = Company { users: next(users)?, roles: next(roles)?, grants: next(grants)?, seed: next(seed as usize)? as u64 };
    std::fs::create_dir_all(&folder)?;
    for (name, text) in company.documents() {
        std::fs::write(std::path::Path::new(&folder).join(name), text)?;
    }
    println!("{company:?} is in {folder}");
    Ok(())
}

//! Memberships that lead back to where they began, which either server refuses.

use rustc_hash::FxHashMap;

/// Says of each membership, a member and the role it is a member of, whether it closes a circle; those that do are left out for
/// the later ones.
///
/// # Complexity
/// Linear where there is no circle, and once more for each one.
pub(crate) fn closing(edges: &[(&str, &str)]) -> Vec<bool> {
    let mut numbers: FxHashMap<&str, usize> = FxHashMap::default();
    let mut number = |name| {
        let next = numbers.len();
        *numbers.entry(name).or_insert(next)
    };
    let edges: Vec<(usize, usize)> = edges.iter().map(|&(member, role)| (number(member), number(role))).collect();
    let mut roles: Vec<Vec<usize>> = vec![Vec::new(); numbers.len()];
    edges.iter().for_each(|&(member, role)| roles[member].push(role));
    let mut round = on_circles(&roles);
    let mut closing = Vec::with_capacity(edges.len());
    for (member, role) in edges {
        let closes = member == role || round[member] && round[role] && leads(&roles, &round, role, member);
        if closes {
            roles[member].retain(|&of| of != role);
            round = on_circles(&roles);
        }
        closing.push(closes);
    }
    closing
}

/// Returns whether a way leads from one to another.
fn leads(roles: &[Vec<usize>], round: &[bool], from: usize, to: usize) -> bool {
    let mut seen = vec![false; roles.len()];
    let mut queue = vec![from];
    while let Some(at) = queue.pop() {
        if at == to {
            return true;
        }
        if !std::mem::replace(&mut seen[at], true) {
            queue.extend(roles[at].iter().filter(|&&of| round[of] && !seen[of]));
        }
    }
    false
}

/// Returns what may be on a circle: what is left once everything has gone that leads nowhere.
fn on_circles(roles: &[Vec<usize>]) -> Vec<bool> {
    let mut members: Vec<Vec<usize>> = vec![Vec::new(); roles.len()];
    for (member, list) in roles.iter().enumerate() {
        list.iter().for_each(|&role| members[role].push(member));
    }
    let mut left: Vec<usize> = roles.iter().map(Vec::len).collect();
    let mut round = vec![true; roles.len()];
    let mut queue: Vec<usize> = (0..roles.len()).filter(|&at| left[at] == 0).collect();
    while let Some(at) = queue.pop() {
        round[at] = false;
        for &member in &members[at] {
            left[member] -= 1;
            if left[member] == 0 {
                queue.push(member);
            }
        }
    }
    round
}

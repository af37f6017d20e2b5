//! Circles in what contains what.

use zest_model::source::Place;

/// Finds circles, each once: the way round, ending where it began, and the place of the edge that closes it.
///
/// `edges` gives what each entry contains, and where that is written. The way is kept on a list, so depth costs no stack.
pub(crate) fn circles(edges: &[Vec<(usize, Place)>]) -> Vec<(Vec<usize>, Place)> {
    // 0: not seen, 1: on the way, 2: done.
    let mut colour = vec![0_u8; edges.len()];
    let mut found = Vec::new();
    for root in 0..edges.len() {
        let mut way: Vec<(usize, usize)> = if colour[root] == 0 { vec![(root, 0)] } else { Vec::new() };
        while let Some((node, next)) = way.last_mut() {
            let (at, step) = (*node, *next);
            colour[at] = 1;
            let Some(&(to, place)) = edges[at].get(step) else {
                colour[at] = 2;
                way.pop();
                continue;
            };
            *next += 1;
            if colour[to] == 0 {
                way.push((to, 0));
            } else if colour[to] == 1 {
                let from = way.iter().position(|&(n, _)| n == to).unwrap_or(0);
                found.push((way[from..].iter().map(|&(n, _)| n).chain([to]).collect(), place));
            }
        }
    }
    found
}

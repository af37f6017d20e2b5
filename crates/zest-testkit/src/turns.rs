//! Two jobs measured in turns, for benches.

use std::time::Instant;

/// Runs two jobs in turns, each over all questions by their numbers, and returns the median time of each for one question, in
/// nanoseconds, and the median of their ratios.
///
/// On a shared machine the speed drifts from second to second; what runs side by side drifts together.
pub fn side_by_side(questions: usize, mut one: impl FnMut(usize), mut other: impl FnMut(usize)) -> (f64, f64, f64) {
    const ROUNDS: usize = 200;
    let time = |job: &mut dyn FnMut(usize)| {
        let start = Instant::now();
        (0..questions).for_each(&mut *job);
        start.elapsed().as_nanos() as f64 / questions as f64
    };
    let rounds: Vec<(f64, f64)> = (0..ROUNDS).map(|_| (time(&mut one), time(&mut other))).collect();
    let median = |values: Vec<f64>| {
        let mut values = values;
        values.sort_by(f64::total_cmp);
        values[values.len() / 2]
    };
    (
        median(rounds.iter().map(|r| r.0).collect()),
        median(rounds.iter().map(|r| r.1).collect()),
        median(rounds.iter().map(|r| r.0 / r.1).collect()),
    )
}

/// Returns the median of some runs, in seconds.
pub fn median(runs: usize, mut one: impl FnMut()) -> f64 {
    let mut times: Vec<f64> = (0..runs)
        .map(|_| {
            let start = Instant::now();
            one();
            start.elapsed().as_secs_f64()
        })
        .collect();
    times.sort_by(f64::total_cmp);
    times.get(times.len() / 2).copied().unwrap_or_default()
}

/// Says how the times of some jobs grow from the first size to the last, as exponents: 1 is linear. Nothing for fewer than two sizes.
pub fn growth<const N: usize>(names: [&str; N], rows: &[(usize, [f64; N])]) -> Vec<String> {
    let (Some((first, before)), Some((last, after))) = (rows.first(), rows.last()) else { return Vec::new() };
    let size = (*last as f64 / *first as f64).ln();
    let one = |((name, before), after): ((&str, &f64), &f64)| format!("  growth of {name}: exponent {:.2}", (after / before).ln() / size);
    if last > first { names.into_iter().zip(before).zip(after).map(one).collect() } else { Vec::new() }
}

//! What is aimed at, and whether it is met.

/// Numbers that were measured beside the most that they may be.
#[derive(Default)]
pub(crate) struct Aims(Vec<(String, f64, f64)>);

impl Aims {
    /// Takes in a number, and the most that it may be.
    pub(crate) fn at_most(&mut self, what: &str, measured: f64, most: f64) {
        self.0.push((what.to_owned(), measured, most));
    }

    /// Prints a line for each aim.
    pub(crate) fn print(&self) {
        println!();
        for (what, measured, most) in &self.0 {
            let word = if measured <= most { "met    " } else { "not met" };
            println!("{word} {what}: {measured:.2}, and at most {most:.2} is asked for");
        }
    }
}

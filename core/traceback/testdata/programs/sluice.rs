// Panics three calls deep, and prints which lines its traceback has to name.
struct Sensor {
    levels: Vec<i32>,
}

impl Sensor {
    #[inline(never)]
    fn level(&self, gate: usize) -> i32 {
        println!("frame\tlevel\tsluice.rs\t{}", line!() + 1);
        self.levels[gate]
    }
}

#[inline(never)]
fn open(sensor: &Sensor, gate: usize) -> i32 {
    println!("outer\topen\tsluice.rs\t{}", line!() + 1);
    let level = sensor.level(gate);
    level + 1
}

fn main() {
    let gates = std::env::args().count() + 6;
    println!("cause\tpanic\tindex out of bounds: the len is 2 but the index is {}", gates);
    println!("outer\tmain\tsluice.rs\t{}", line!() + 1);
    let level = open(&Sensor { levels: vec![3, 4] }, gates);
    println!("{}", level);
}

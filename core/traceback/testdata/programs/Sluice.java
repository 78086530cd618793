// Sluice fails with an error that has a cause and a suppressed one, and prints what
// its traceback has to say: each frame and each error, as the virtual machine knows them.
public class Sluice {
    static class GateStuck extends RuntimeException {
        GateStuck(String message, Throwable cause) { super(message, cause); }
    }

    static class Sensor implements AutoCloseable {
        int level(int gate) {
            int[] levels = {3, 4};
            return levels[gate];
        }

        @Override public void close() { throw new IllegalStateException("sensor is already closed"); }
    }

    interface Move { void go(int gate); }

    static void open(int gate) {
        try (Sensor sensor = new Sensor()) {
            System.out.println("level " + sensor.level(gate));
        } catch (ArrayIndexOutOfBoundsException e) {
            throw new GateStuck("gate " + gate + " does not answer: is it \"Kelp Quay\"?", e);
        }
    }

    public static void main(String[] args) throws Exception {
        Move move = gate -> open(gate);
        try {
            move.go(7);
        } catch (GateStuck e) {
            tell(e);
            throw e;
        }
    }

    static void tell(Throwable e) {
        for (StackTraceElement f : e.getStackTrace()) {
            System.out.println("frame\t" + f.getClassName() + "." + f.getMethodName() + "\t" + f.getFileName() + "\t" + f.getLineNumber());
        }
        for (Throwable c = e; c != null; c = c.getCause()) {
            System.out.println("cause\t" + c.getClass().getName() + "\t" + c.getMessage());
            for (Throwable s : c.getSuppressed()) {
                System.out.println("suppressed\t" + s.getClass().getName() + "\t" + s.getMessage());
            }
        }
    }
}

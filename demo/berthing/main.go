// Command berthing gives berths to the vessels that arrive in Gannet Sound. It
// reads the tide book, corrects it by the pressure notices in force, gives each
// vessel the shallowest berth that keeps the margin under her keel, and in the
// end holds every berth against what the tide gauges really showed.
package main

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"berthing/arrivals"
	"berthing/berth"
	"berthing/tides"
	"berthing/watch"
)

func main() {
	data := flag.String("data", "data", "folder with the tide book, the arrivals, the gauges and the notices")
	notices := flag.String("notices", "0412", "numbers of the pressure notices in force, with commas between them")
	flag.Parse()
	report, err := run(*data, strings.Split(*notices, ","))
	fmt.Println(report)
	if err != nil {
		var aground *watch.GroundingError
		if errors.As(err, &aground) {
			fmt.Fprintln(os.Stderr, "harbour watch:", err)
			os.Exit(3)
		}
		fmt.Fprintln(os.Stderr, "berthing:", err)
		os.Exit(1)
	}
}

// run berths every arrival and checks the result.
func run(data string, numbers []string) (report string, err error) {
	book, err := tides.ReadBook(filepath.Join(data, "tidebook.csv"))
	if err != nil {
		return "", fmt.Errorf("read the tide book: %w", err)
	}
	for _, number := range numbers {
		notice, err := tides.ReadNotice(filepath.Join(data, "notice-"+strings.TrimSpace(number)+".csv"))
		if err != nil {
			return "", fmt.Errorf("read notice %s: %w", number, err)
		}
		book.Apply(notice)
	}
	vessels, err := arrivals.Read(filepath.Join(data, "arrivals.csv"))
	if err != nil {
		return "", fmt.Errorf("read the arrivals: %w", err)
	}
	harbour := berth.NewHarbour(book)
	var given []berth.Berthing
	turnedAway := 0
	for _, vessel := range vessels {
		place, err := harbour.Assign(vessel)
		if errors.Is(err, berth.ErrNoWater) {
			turnedAway++
			continue
		}
		if err != nil {
			return "", err
		}
		given = append(given, place)
	}
	report = fmt.Sprintf("%d vessels berthed, %d turned away", len(given), turnedAway)
	gauges, err := watch.ReadGauges(filepath.Join(data, "gauges.csv"))
	if err != nil {
		return report, fmt.Errorf("read the gauges: %w", err)
	}
	return report, gauges.Check(given)
}

package cli

import (
	"os"

	"golang.org/x/sys/windows"
)

// colours asks a Windows console to take the sequences of colours, and UTF-8. Whether it does,
// it says.
func colours(f *os.File) bool {
	h := windows.Handle(f.Fd())
	var mode uint32
	if windows.GetConsoleMode(h, &mode) != nil {
		return false
	}
	_ = windows.SetConsoleOutputCP(65001) // it shows other letters otherwise, and no worse
	return windows.SetConsoleMode(h, mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil
}

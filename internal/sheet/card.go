package sheet

// Card goes with a starting stick: how to start a machine from it, and what to do where that doesn't work.
type Card struct {
	Head
	// Tool is the program with its version.
	Tool string
}

// startKeys are the keys that open a start menu on machines that are made by many, the likeliest first.
var startKeys = [][]string{
	{"F12", "most laptops and office PCs"},
	{"F9, F10, F11", "others; all three are worth a try, one start each"},
	{"Esc", "some laptops; it may open a list in which F9 is the start menu"},
	{"F8", "many main boards that are sold by themselves"},
	{"F2 or Del", "the set-up, where the order of drives can be changed, if there is no menu"},
	{"a small button or hole", "some thin laptops have it at a side; pressed while the machine is off it opens a menu"},
	{"Option (Alt)", "Macs with Intel processors: hold it from the chime on, then choose EFI Boot"},
	{"the power button, held", "Macs with the maker's own processors: they don't start from this stick"},
}

// Blocks are what the card says.
func (c Card) Blocks() []Block {
	rows := [][]string{}
	rows = append(rows, startKeys...)
	return []Block{
		{Facts: [][2]string{{"This stick", "starts a PC into " + c.Tool}, {"It needs", "a 64-bit PC with 1 GiB of " +
			"memory, UEFI firmware or a BIOS"},
			{"It changes", "nothing on the machine before that is confirmed"}}},
		{Heading: "Starting from it"},
		{Text: "1  Switch the machine off. Where Windows runs, hold Shift while you choose Shut down: it may " +
			"sleep otherwise, " +
			"and what was open would be lost."},
		{Text: "2  Put the stick in, at the machine itself and not at a hub, and connect mains power."},
		{Text: "3  Switch the machine on and press the key of its start menu again and again, about twice a second."},
		{Table: &Table{Head: []string{"key", "where"}, Shares: []float64{0.25, 0.75}, Right: []bool{false, false},
			Rows: rows}},
		{Text: "4  Choose the stick. Where it is listed twice, the entry with UEFI before it is the better one on " +
			"a machine " +
			"whose own system starts so."},
		{Text: "5  At the end q switches the machine off or restarts it. Records and papers lie on the stick, in " +
			"the folder " +
			"twinshelf."},
		{Heading: "UEFI or BIOS?"},
		{Text: "The first page of Twin Shelf says how the machine was started. Of the customer's system it is " +
			"told by its disk: " +
			"one with a GPT and an EFI system part starts by UEFI, one with an MBR and start-up code by a BIOS. A " +
			"set-up with " +
			"pictures and a mouse, or with an entry for Secure Boot, is UEFI's."},
		{Heading: "Secure Boot"},
		{Text: "It can stay on. A machine that trusts only its maker's own keys says that the stick isn't " +
			"allowed: in the set-up, " +
			"under Secure Boot or Security, allow the keys of third parties, or switch Secure Boot off until the " +
			"work is done, and " +
			"on again afterwards. Where the disk is encrypted with BitLocker have the recovery key at hand first: " +
			"the system may " +
			"ask for it."},
		{Heading: "When the machine's disk doesn't show"},
		{Text: "The page of the Bench names controllers without a driver. Often the controller is in a RAID mode " +
			"though it has one " +
			"disk: its entry in the set-up (SATA mode, storage, VMD) can be set to AHCI or NVMe for the work. " +
			"Note what it was and " +
			"set it back: the customer's system may not start otherwise."},
		{Text: "A disk that shows and can't be read may be failing: press R on it, which reads what is most " +
			"precious first."},
		{Heading: "When nothing starts"},
		{Text: "Try another USB socket, a USB 2 one first; switch off Fast Boot in the set-up; take other drives " +
			"out. Firmware of " +
			"32 bits says that it can't go on: put the disk into a dock at another machine."},
	}
}

// PDF gives the card as a document.
func (c Card) PDF() ([]byte, error) {
	return c.pdf("Starting stick", c.Tool, "", c.Blocks())
}

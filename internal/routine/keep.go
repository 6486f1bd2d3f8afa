package routine

// presets are rules that have a name: how often it runs tells which one is meant.
var presets = map[string]string{
	"hourly": "one an hour for 1 day, then one a day for 1 month, then one a week for ever; never fewer than 3",
	"daily":  "one a day for 1 month, then one a week for 1 year, then one a month for ever; never fewer than 3",
	"weekly": "one a week for 3 months, then one a month for ever; never fewer than 3",
}

const presetNames = "hourly, daily and weekly"

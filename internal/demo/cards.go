package demo

import "fmt"

// cards are what the teams wrote about their models.
var cards = map[string]string{
	"heat-demand": `---
licence: internal use of Tarnholm District Heat
language: [en]
contact: forecasting@tarnholm.example
---
# Heat demand of a substation in the next hour

%s

## Intended use

The dispatch desk plans the plant's output by it, hour by hour, for each of the 42 substations.

## Data

Two winters of hourly readings. Rows during the repair of March are left out.

| column | unit |
|---|---|
| outdoor_c | °C |
| wind_ms | m/s |
| demand_mw | MW |

## Limits

- Not for summer: there are few rows above 20 °C.
- Not for new buildings without a day of history.

## Contact

Runa, forecasting team.
`,
	"valve-fault": `---
licence: internal use of Tarnholm District Heat
contact: maintenance@tarnholm.example
---
# What is wrong with a valve

%s

## Intended use

The maintenance app sorts its list by it. A person looks at every valve before it is taken out.

## Data

Valves in service, labelled by the crews.

## Limits

Makers other than brenna, kvist and solheim were never seen.
`,
	"return-temp": `---
licence: internal use of Tarnholm District Heat
---
# Temperature of the water that comes back

%s

## Intended use

The boiler room sets its pumps by it.

## Limits

Knows nothing of repairs under way.
`,
	"weather-base": `---
licence: CC-BY-4.0
contact: forecasting@tarnholm.example
---
# The weather's part of heat demand

%s

## Intended use

A start for other models: it answers to weather and time of day only.

## Data

Two winters of weather and demand.

## Limits

Knows nothing of a substation's history, so it is never good enough alone.

## Contact

Runa, forecasting team.
`,
}

// cardOf is the card of a version.
func cardOf(model, note string) string {
	text, there := cards[model]
	if !there {
		text = "---\nlicence: internal use of Tarnholm District Heat\n---\n# " + model +
			"\n\n%s\n\n## Intended use\n\nTrials on the workbench.\n"
	}
	return fmt.Sprintf(text, "This version: "+note+".")
}

const requirements = `# what serving it needs
numpy==2.1.3
pandas>=2.2,<3
tarnholm-fit==1.0.4 ; python_version >= "3.11"
`

// notebook is a small notebook about a version.
const notebook = `{"cells":[{"cell_type":"markdown","metadata":{},"source":["# Residuals by hour\n","Nothing stands out but the works on Mondays."]}],"metadata":{},"nbformat":4,"nbformat_minor":5}
`

package wire

// NewScoring says who is asked for predictions of all rows of a table, and how. The table is the body of the call.
type NewScoring struct {
	Asked       string `query:"asked" json:"-" required:"true" description:"a version, such as heat-demand@7, or an endpoint: whoever answers for it now"`
	Environment string `query:"environment" json:"-" description:"where the version is placed; the only place when not given; one that is placed nowhere is started for the job"`
	Name        string `query:"name" json:"-" description:"of the file, which tells what it is where its bytes do not: CSV, JSON lines, Parquet"`
	Data        string `query:"data" json:"-" description:"a data set whose address is known, in place of a body"`
	Keep        string `query:"keep" json:"-" description:"columns that stand beside the answers, with commas between them; all, none; those that are no inputs when not given"`
	Batch       int    `query:"batch" json:"-" minimum:"1" maximum:"4096" description:"rows of one request; 256 when not given"`
	Parallel    int    `query:"parallel" json:"-" minimum:"1" maximum:"64" description:"requests under way at a time; 4 when not given"`
}

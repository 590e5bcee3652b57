package signature

// mostSampleValues is the most values of one tensor of a sample request.
const mostSampleValues = 4096

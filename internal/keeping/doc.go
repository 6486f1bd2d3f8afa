// Package keeping looks after a shelf over the years: which dates are kept, what room comes back and when there will be
// none, whether everything is still as it was written, and carrying twins to another shelf.
package keeping

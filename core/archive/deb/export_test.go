package deb

// What the tests outside the package (they use made-up packages, which are built upon it) look at.
var WithoutFields = withoutFields

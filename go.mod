module ydrion

go 1.26.0

require golang.org/x/text v0.44.0 // indirect

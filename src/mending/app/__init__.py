"""One function for each thing a person does, without a word about how it is asked for or shown.

Whoever calls them, the commands of the roof or a test, gets values and our own errors; nothing here
prints, asks, or looks at the clock: what this machine and this moment are like comes in as a
`Host`.
"""

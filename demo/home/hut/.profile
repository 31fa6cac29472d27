# A hut has no screen, and nobody looks at colours.
PS1="\h:\w\$ "

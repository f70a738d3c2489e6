# writes the names of the winds
echo '#define NAME_OF_WIND "north-wester"' > "$1"

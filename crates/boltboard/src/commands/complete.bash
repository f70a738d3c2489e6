_boltboard() {
    local line=${COMP_LINE:0:COMP_POINT} words=() IFS=$' \t\n'
    read -r -a words <<< "$line"
    [[ $line == *[[:space:]] ]] && words+=("")
    local current=${words[${#words[@]}-1]}
    local before=${current%"${current##*[=:]}"}
    local IFS=$'\013'
    COMPREPLY=( $( _CLAP_IFS="$IFS" _CLAP_COMPLETE_INDEX="$(( ${#words[@]} - 1 ))" BOLTBOARD_COMPLETE=bash \
        "${words[0]}" -- "${words[@]}" 2> /dev/null ) )
    COMPREPLY=( "${COMPREPLY[@]#"$before"}" )
    # Flags are offered to who begins one, or where there is nothing else.
    if [[ -z $current && ${COMPREPLY[0]} != -* ]]; then
        local names=() name
        for name in "${COMPREPLY[@]}"; do [[ $name == -* ]] || names+=("$name"); done
        COMPREPLY=( "${names[@]}" )
    fi
    [[ ${#COMPREPLY[@]} -eq 1 && ${COMPREPLY[0]} == *[=:/] ]] && compopt -o nospace 2> /dev/null
    return 0
}
complete -o bashdefault -o nosort -F _boltboard boltboard 2> /dev/null || complete -o bashdefault -F _boltboard boltboard

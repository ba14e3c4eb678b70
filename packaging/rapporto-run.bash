# Completion of rapporto-run and rapporto for bash.
_rapporto_run() {
  local word=${COMP_WORDS[COMP_CWORD]} before=${COMP_WORDS[COMP_CWORD-1]}
  COMPREPLY=()
  case $before in
    --out|--report|--codebook|--against) mapfile -t COMPREPLY < <(compgen -f -- "$word"); return ;;
    --imputed|--replication|--verify) mapfile -t COMPREPLY < <(compgen -d -- "$word"); return ;;
    --question|--tolerance|--threads) return ;;
  esac
  if [[ $word == -* ]]; then
    mapfile -t COMPREPLY < <(compgen -W "--help --question --out --report --codebook --imputed --replication --without-data --verify --against --tolerance --threads --anywhere --accept-changed" -- "$word")
  else
    mapfile -t COMPREPLY < <(compgen -f -X '!*.rapporto' -- "$word"; compgen -d -- "$word")
  fi
}
_rapporto() {
  local word=${COMP_WORDS[COMP_CWORD]}
  if [[ $word == -* ]]; then
    mapfile -t COMPREPLY < <(compgen -W "--demo --help --version" -- "$word")
  else
    mapfile -t COMPREPLY < <(compgen -f -- "$word")
  fi
}
complete -o filenames -F _rapporto_run rapporto-run
complete -o filenames -F _rapporto rapporto

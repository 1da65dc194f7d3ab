<script setup lang="ts">
/** The theme, and whichever screen is shown. */
import { setTheme, storedTheme } from './lib/theme'

setTheme(storedTheme())
</script>

<template><RouterView /></template>

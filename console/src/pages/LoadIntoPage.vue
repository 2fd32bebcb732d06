<script setup lang="ts">
import { useCollection } from '../parts/collection'
import LoadForm from '../parts/LoadForm.vue'

const { collection, refresh } = useCollection()
</script>

<template>
  <h1>Load</h1>
  <LoadForm :into="collection" @changed="refresh" />
</template>

<script setup lang="ts">
import LoadForm from '../parts/LoadForm.vue'
</script>

<template>
  <h1>New collection from a file</h1>
  <LoadForm :into="null" />
</template>

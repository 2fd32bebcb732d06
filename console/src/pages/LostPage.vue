<template>
  <div class="sheet"><strong>There is no such page.</strong> <RouterLink to="/">Collections</RouterLink> is where everything begins.</div>
</template>

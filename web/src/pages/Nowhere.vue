<template>
  <div class="panel">
    <h1>Nothing here</h1>
    <p class="nothing">There is no page at this address. <router-link to="/today">Today</router-link> is a good place to begin.</p>
  </div>
</template>

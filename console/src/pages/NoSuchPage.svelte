<script lang="ts">
  import Heading from '../components/Heading.svelte';
</script>

<Heading question="Where is this?" answer="Nowhere" good={false}>
  The console has no page at this address. <a class="link" href="/">Go to the overview</a>.
</Heading>

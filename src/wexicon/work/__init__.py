"""What is done with modules, in rooms; each imports only those above it in this list: results, contact, module, provisioning,
function, drafting, console, fleet, simulation."""

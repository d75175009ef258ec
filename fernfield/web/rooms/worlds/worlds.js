import "/static/js/kernel/forms.js";

// The documents' links lead to files and headings that exist. Nothing is formatted.
export default { plugins: [['remark-validate-links', { repository: false }]] };

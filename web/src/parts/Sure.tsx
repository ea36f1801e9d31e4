import { Popconfirm, type PopconfirmProps } from 'antd'

/** Asks once, beside what was pressed, before something that cannot be taken back. */
export function Sure(props: PopconfirmProps) {
  return <Popconfirm icon={<span aria-hidden>▲</span>} cancelText="Leave it" {...props} />
}
